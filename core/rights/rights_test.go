package rights_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"rudmar/core/rights"
)

func scope(text string) rights.Scope {
	s, err := rights.ParseScope(text)
	if err != nil {
		panic(err)
	}
	return s
}

// person has grants, each as "right in scope".
func person(username string, grants ...string) rights.Person {
	p := rights.Person{Username: username}
	for _, text := range grants {
		right, in, _ := strings.Cut(text, " in ")
		p.Grants = append(p.Grants, rights.Grant{Right: right, In: scope(in)})
	}
	return p
}

func ExampleMay() {
	linden := person("linden", "approver in frostline/live", "view")
	fmt.Println(rights.May(linden, rights.Approve, scope("frostline/live")))
	fmt.Println(rights.May(linden, rights.Approve, scope("watering/live")))
	fmt.Println(rights.May(linden, rights.Write, scope("watering")))
	// Output:
	// <nil>
	// not allowed: linden has the right to approve in frostline/live, not in watering/live
	// not allowed: linden is an approver in frostline/live, a holder of the right to view; the right to write is required, which an author or an administrator has
}

// TestEveryRoleAndOperation compares each role with each permission, and a person without a role.
func TestEveryRoleAndOperation(t *testing.T) {
	may := map[string]string{
		rights.Reader:        "view",
		rights.Author:        "view view-bodies invoke write request set-secrets use-secrets deploy",
		rights.Approver:      "view view-bodies invoke request approve set-secrets deploy",
		rights.Operator:      "view view-bodies invoke request set-secrets deploy",
		rights.Administrator: "view view-bodies invoke write request approve override set-secrets use-secrets deploy administer",
		"use-secrets":        "use-secrets",
		"king":               "",
	}
	for role, want := range may {
		var got []string
		for _, a := range rights.Permissions() {
			p := person("wren", role)
			err := rights.May(p, a, rights.Scope{Service: "frostline"})
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

func TestScopes(t *testing.T) {
	for _, tt := range []struct {
		in, at    string
		may, view bool
	}{
		{"", "frostline/live", true, true}, {"", "", true, true},
		{"frostline", "frostline/live", true, true}, {"frostline", "frostline", true, true},
		{"frostline", "watering", false, false}, {"frostline", "", false, false},
		{"frostline/live", "frostline/live", true, true}, {"frostline/live", "frostline/trial", false, false},
		{"frostline/live", "frostline", false, true}, {"frostline/live", "watering/live", false, false},
		{"repository:orchard", "repository:orchard", true, true}, {"repository:orchard", "repository:cellar", false, false},
		{"repository:orchard", "", false, false}, {"repository:orchard", "orchard", false, false},
	} {
		p := person("linden", "approver in other/stage", "approver in "+tt.in)
		if err := rights.May(p, rights.Deploy, scope(tt.at)); (err == nil) != tt.may {
			t.Errorf("a right in %q at %q: %v", tt.in, tt.at, err)
		}
		if err := rights.May(p, rights.View, scope(tt.at)); (err == nil) != tt.view {
			t.Errorf("viewing %q with a right in %q: %v", tt.at, tt.in, err)
		}
		if text := scope(tt.in).String(); scope(text) != scope(tt.in) {
			t.Errorf("%q is written as %q", tt.in, text)
		}
	}
	for _, text := range []string{"Frostline", "a/b/c", "a/", "/b", "trial~wren", "repository:", "repository:a/b", " ", "a b"} {
		if _, err := rights.ParseScope(text); !errors.Is(err, rights.ErrScope) {
			t.Errorf("%q is a scope: %v", text, err)
		}
	}
}

// More grants never take a right away, and a token never adds one.
func TestGrantsOnlyAdd(t *testing.T) {
	random := rand.New(rand.NewPCG(28, 3))
	pick := func(list []string) string { return list[random.IntN(len(list))] }
	scopes := []string{"", "frostline", "frostline/live", "frostline/trial", "watering", "repository:orchard"}
	granted := rights.Roles()
	for _, a := range rights.Permissions() {
		granted = append(granted, string(a))
	}
	grant := func() rights.Grant { return rights.Grant{Right: pick(granted), In: scope(pick(scopes))} }
	for range 3_000 {
		p := rights.Person{Username: "wren", Grants: []rights.Grant{grant(), grant()}}
		more, less := p, p
		more.Grants = append(slices.Clone(p.Grants), grant())
		less.Token = &rights.Token{Name: "nightly", Grants: []rights.Grant{grant(), grant()}}
		at := scope(pick(scopes))
		for _, a := range rights.Permissions() {
			has := rights.May(p, a, at) == nil
			if has && rights.May(more, a, at) != nil || !has && rights.May(less, a, at) == nil {
				t.Fatalf("%v, %s at %s: with %v, and with the token %v", p.Grants, a, at, more.Grants, less.Token.Grants)
			}
			if has && !rights.Anywhere(p, a) {
				t.Fatalf("%v: %s is nowhere and at %s", p.Grants, a, at)
			}
		}
	}
}
