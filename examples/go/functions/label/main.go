// Writes the label of a crate, with a check digit.
package main

import (
	"fmt"
	"strconv"
)

func run(call *Call) (any, error) {
	params, _ := call.Event["params"].(map[string]any)
	number, err := strconv.Atoi(fmt.Sprint(params["number"]))
	if err != nil {
		return map[string]any{"status": 422,
			"body": map[string]string{"problem": "a crate number must be a whole number"}}, nil
	}
	sum := 0
	for n := number; n > 0; n /= 10 {
		sum += n % 10
	}
	fmt.Println("label for", params["grower"])
	return map[string]any{"status": 200,
		"body": map[string]string{"label": fmt.Sprintf("%v %05d-%d", params["grower"], number, sum%10)}}, nil
}
