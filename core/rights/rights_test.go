package rights_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"rudmar/core/rights"
)

func ExampleMay() {
	linden := rights.Person{Username: "linden", Role: rights.Approver,
		In: []rights.Where{rights.ParseWhere("frostline/live")}}
	fmt.Println(rights.May(linden, rights.Approve, rights.ParseWhere("frostline/live")))
	fmt.Println(rights.May(linden, rights.Approve, rights.ParseWhere("watering/live")))
	// Output:
	// <nil>
	// not allowed: linden is an approver in frostline/live, not in watering/live
}

// TestEveryRoleAndOperation compares each role with each permission, and a person without a role.
func TestEveryRoleAndOperation(t *testing.T) {
	may := map[string]string{
		rights.Reader:        "view",
		rights.Author:        "view invoke write request set-secrets deploy",
		rights.Approver:      "view invoke request approve set-secrets deploy",
		rights.Operator:      "view invoke request set-secrets deploy",
		rights.Administrator: "view invoke write request approve override set-secrets deploy administer",
		"stranger":           "",
	}
	for role, want := range may {
		var got []string
		for _, a := range rights.Permissions() {
			p := rights.Person{Username: "wren", Role: role}
			err := rights.May(p, a, rights.Where{Service: "frostline"})
			if err == nil {
				got = append(got, string(a))
			} else if !errors.Is(err, rights.ErrDenied) || !strings.Contains(err.Error(), "wren") {
				t.Errorf("%s, %s: %v", role, a, err)
			}
			if (err == nil) != rights.Anywhere(p, a) {
				t.Errorf("%s, %s: anywhere is told otherwise", role, a)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s may %v, want %s", role, got, want)
		}
	}
}

func TestWhere(t *testing.T) {
	for _, tt := range []struct {
		in, at string
		may    bool
	}{
		{"", "frostline/live", true}, {"", "", true},
		{"frostline", "frostline/live", true}, {"frostline", "frostline", true}, {"frostline", "watering", false},
		{"frostline", "", false},
		{"frostline/live", "frostline/live", true}, {"frostline/live", "frostline/trial", false},
		{"frostline/live", "frostline", false}, {"frostline/live", "watering/live", false},
	} {
		p := rights.Person{Username: "linden", Role: rights.Approver}
		if tt.in != "" {
			p.In = []rights.Where{rights.ParseWhere("other/place"), rights.ParseWhere(tt.in)}
		}
		if err := rights.May(p, rights.Deploy, rights.ParseWhere(tt.at)); (err == nil) != tt.may {
			t.Errorf("a right in %q at %q: %v", tt.in, tt.at, err)
		}
		if err := rights.May(p, rights.View, rights.ParseWhere(tt.at)); err != nil {
			t.Errorf("looking at %q with a right in %q: %v", tt.at, tt.in, err)
		}
	}
}
