module skerry.example/wire-schema

go 1.21
