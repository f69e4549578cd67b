module skerry.example/tides

go 1.21
