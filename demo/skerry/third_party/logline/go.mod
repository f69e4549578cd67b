module quay.example/logline

go 1.21
