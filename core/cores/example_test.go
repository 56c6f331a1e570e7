package cores_test

import (
	"fmt"

	"rudmar/core/cores"
)

func ExampleShare() {
	squares := make([]int, 1000)
	cores.Share(len(squares), func(from, to int) {
		for i := from; i < to; i++ {
			squares[i] = i * i
		}
	})
	fmt.Println(squares[12], squares[999])
	// Output: 144 998001
}
