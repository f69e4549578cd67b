module skerry.example/timetable

go 1.21

require skerry.example/tides v0.0.0

replace skerry.example/tides => ../tides
