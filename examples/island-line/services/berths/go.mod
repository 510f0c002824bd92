module example.org/berths

go 1.26
