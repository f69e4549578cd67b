module skerry.example/notices

go 1.21

require (
	skerry.example/timetable v0.0.0
	skerry.example/tides v0.0.0
	skerry.example/wire-schema v0.0.0
)

replace (
	skerry.example/timetable => ../../libs/timetable
	skerry.example/tides => ../../libs/tides
	skerry.example/wire-schema => ../../libs/wire-schema
)
