package route_test

import (
	"fmt"

	"rudmar/core/route"
)

func Example() {
	one, _ := route.Parse("GET /stations/{id}")
	other, _ := route.Parse("ANY /stations/hill")
	winner, parameters := route.Winner([]route.Route{one, other}, "GET", "/stations/lake")
	fmt.Println(winner, parameters)
	winner, _ = route.Winner([]route.Route{one, other}, "GET", "/stations/hill")
	fmt.Println(winner)
	// Output:
	// 0 map[id:lake]
	// 1
}
