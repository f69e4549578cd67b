module skerry.example/boarding-gate

go 1.21

require (
	quay.example/logline v1.2.0
	skerry.example/wire-schema v0.0.0
)

replace (
	quay.example/logline => ../../third_party/logline
	skerry.example/wire-schema => ../../libs/wire-schema
)
