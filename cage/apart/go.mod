module apart

go 1.26.0

require golang.org/x/sys v0.49.0
