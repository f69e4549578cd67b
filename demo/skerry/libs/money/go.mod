module skerry.example/money

go 1.21
