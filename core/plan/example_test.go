package plan_test

import (
	"fmt"

	"rudmar/core/expand"
	"rudmar/core/plan"
)

func Example() {
	wanted := []expand.Resource{{Address: "function/warn", Kind: "function", Function: "warn",
		Attributes: []expand.Attribute{{Name: "memory", Value: 256.0}}}}
	was := map[string]any{"memory": 128.0}
	p := plan.Compute(plan.Inputs{
		Wanted: wanted,
		Record: []plan.Recorded{{Address: "function/warn", Kind: "function", Function: "warn", Attributes: was}},
		Actual: []plan.Actual{{Address: "function/warn", Kind: "function", Attributes: was}},
		Kinds:  []plan.KindSpec{{Kind: "function", Attributes: []plan.AttributeSpec{{Name: "memory", InPlace: true}}}},
	})
	for _, s := range p.Steps {
		fmt.Println(s.Change, s.Address, s.Attributes[0].Before, s.Attributes[0].After)
	}
	// Output: update function/warn 128 256
}
