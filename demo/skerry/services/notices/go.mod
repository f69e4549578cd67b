module skerry.example/notices

go 1.21

require skerry.example/wire-schema v0.0.0

replace skerry.example/wire-schema => ../../libs/wire-schema
