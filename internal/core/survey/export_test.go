package survey

// What tests call of the inside.
var (
	Configures = configures
	IsOther    = isOther
	Judge      = (*Task).judge
)
