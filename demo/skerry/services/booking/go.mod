module skerry.example/booking

go 1.21

require (
	quay.example/logline v1.4.0
	skerry.example/fares v0.0.0
	skerry.example/money v0.0.0
	skerry.example/tides v0.0.0 // indirect
	skerry.example/wire-schema v0.0.0
)

replace (
	quay.example/logline v1.4.0 => ../../third_party/logline
	skerry.example/fares => ../../libs/fares
	skerry.example/money => ../../libs/money
	skerry.example/tides => ../../libs/tides
	skerry.example/wire-schema => ../../libs/wire-schema
)
