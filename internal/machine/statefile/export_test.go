package statefile

// RoundTrips are the checks of all registered formats, by name.
func RoundTrips() map[string]func(body []byte) error { return registered }
