package cases_test

import (
	"context"
	"fmt"
	"time"

	"rudmar/core/cases"
	"rudmar/core/expression"
	"rudmar/core/manifest"
)

func ExampleJudge() {
	language, _ := expression.ForCases()
	outcomes, passed := cases.Judge(context.Background(), language,
		[]manifest.Expectation{{Text: "status == 200"}, {Text: `took < duration("100ms")`}},
		cases.Observed{Response: map[string]any{"status": 200.0}, Took: 300 * time.Millisecond})
	for _, o := range outcomes {
		fmt.Println(o.Expected, o.Holds, o.Found)
	}
	fmt.Println(passed)
	// Output:
	// status == 200 true status is 200
	// took < duration("100ms") false took is 300ms
	// false
}
