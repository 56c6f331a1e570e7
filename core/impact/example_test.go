package impact_test

import (
	"fmt"

	"rudmar/core/impact"
)

// A route that members could call is opened to everybody.
func Example() {
	side := func(to string) []impact.Resource {
		return []impact.Resource{
			{Address: "route/warn/ask", Kind: "route", Function: "warn",
				Attributes: map[string]any{"method": "GET", "path": "/frost"}},
			{Address: "opening/warn/ask", Kind: "opening", Function: "warn",
				Attributes: map[string]any{"route": "route/warn/ask", "to": []any{to}}},
		}
	}
	for _, o := range impact.Assess(side("members"), side("anyone"), nil).Opened {
		fmt.Println(o.Route, "was open to", o.Before, "and will be to", o.After, o.Public)
	}
	// Output: GET /frost was open to members and will be to anyone true
}
