module skerry.example/sailings

go 1.21

require (
	quay.example/logline v1.4.0
	skerry.example/tides v0.0.0
	skerry.example/timetable v0.0.0
	skerry.example/wire-schema v0.0.0
)

replace (
	quay.example/logline v1.4.0 => ../../third_party/logline
	skerry.example/tides => ../../libs/tides
	skerry.example/timetable => ../../libs/timetable
	skerry.example/wire-schema => ../../libs/wire-schema
)
