package metrics_test

import (
	"fmt"

	"rudmar/core/metrics"
)

func ExampleCost() {
	calls := metrics.Sum{Invocations: 2_000_000, TotalMs: 100 * 2_000_000}
	amount, how, _ := metrics.Cost(calls, 512<<20, metrics.Rates{PerMillionCalls: "0.20", PerGiBSecond: "0.00001",
		Currency: "EUR"})
	fmt.Println(amount)
	fmt.Println(how)
	// Output:
	// 1.4000
	// 2000000 invocations at 0.20 per million, and 100000.000 GiB-seconds at 0.00001
}
