module skerry.example/fares

go 1.21

require (
	skerry.example/money v0.0.0
	skerry.example/tides v0.0.0
)

replace (
	skerry.example/money => ../money
	skerry.example/tides => ../tides
)
