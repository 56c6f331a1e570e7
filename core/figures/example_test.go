package figures_test

import (
	"fmt"

	"rudmar/core/figures"
)

func ExampleCost() {
	calls := figures.Sum{Calls: 2_000_000, TotalMs: 100 * 2_000_000}
	amount, how, _ := figures.Cost(calls, 512<<20, figures.Rates{PerMillionCalls: "0.20", PerGiBSecond: "0.00001",
		Currency: "EUR"})
	fmt.Println(amount)
	fmt.Println(how)
	// Output:
	// 1.4000
	// 2000000 calls at 0.20 a million, and 100000.000 GiB seconds at 0.00001
}
