module label

go 1.24
