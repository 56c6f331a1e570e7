package rights_test

import (
	"errors"
	"strings"
	"testing"

	"rudmar/core/rights"
)

func token(acts string, places ...string) *rights.Token {
	t := &rights.Token{Name: "nightly"}
	for _, a := range strings.Split(acts, ",") {
		t.Permissions = append(t.Permissions, rights.Permission(a))
	}
	for _, p := range places {
		t.In = append(t.In, rights.ParseWhere(p))
	}
	return t
}

// A token has the intersection of its own and its creator's rights.
func TestTokensNarrow(t *testing.T) {
	everywhere := rights.Person{Username: "wren", Role: rights.Approver}
	inPreview := rights.Person{Username: "linden", Role: rights.Approver, In: []rights.Where{{Service: "frostline", Stage: "preview"}}}
	for _, tt := range []struct {
		p     rights.Person
		token *rights.Token
		act   rights.Permission
		at    string
		may   bool
	}{
		{everywhere, token("view,approve"), rights.Approve, "frostline/live", true},
		{everywhere, token("view,approve"), rights.Deploy, "frostline/live", false},
		{everywhere, token("view,write"), rights.Write, "frostline", false}, // an approver has no right to write
		{everywhere, token("view,approve", "frostline"), rights.Approve, "frostline/live", true},
		{everywhere, token("view,approve", "frostline"), rights.Approve, "watering/live", false},
		{everywhere, token("view,approve", "frostline"), rights.Approve, "", false},
		{everywhere, token("view,approve", "frostline/live"), rights.Approve, "frostline/preview", false},
		{everywhere, token("view,approve", "frostline/live"), rights.View, "frostline", true},
		{everywhere, token("view,approve", "frostline/live"), rights.View, "frostline/preview", true},
		{everywhere, token("view,approve", "frostline/live"), rights.View, "watering", false},
		{everywhere, token("view", "frostline"), rights.View, "", false},
		{everywhere, token("approve"), rights.View, "frostline", false},
		{inPreview, token("view,approve"), rights.Approve, "frostline/preview", true},
		{inPreview, token("view,approve"), rights.Approve, "frostline/live", false}, // never more than its maker
		{inPreview, token("view,approve", "frostline/live"), rights.Approve, "frostline/live", false},
		{rights.Person{Username: "gone"}, token("view"), rights.View, "frostline", false},
	} {
		p := tt.p
		p.Token = tt.token
		err := rights.May(p, tt.act, rights.ParseWhere(tt.at))
		if (err == nil) != tt.may || err != nil && !errors.Is(err, rights.ErrDenied) {
			t.Errorf("%s with %v %v: %s at %q: %v", p.Username, tt.token.Permissions, tt.token.In, tt.act, tt.at, err)
		}
		if rights.Anywhere(p, tt.act) && rights.May(p, tt.act, rights.Where{}) != nil && len(tt.token.In)+len(p.In) == 0 {
			t.Errorf("%s: %s is told as possible somewhere, and is nowhere", p.Username, tt.act)
		}
	}
}

func TestWhoCanCreateTokens(t *testing.T) {
	wren := rights.Person{Username: "wren", Role: rights.Author}
	linden := rights.Person{Username: "linden", Role: rights.Approver, In: []rights.Where{{Service: "frostline", Stage: "live"}}}
	byToken := wren
	byToken.Token = token("view,write")
	for _, tt := range []struct {
		name  string
		p     rights.Person
		token *rights.Token
		may   bool
	}{
		{"what they may", wren, token("view,write,deploy"), true},
		{"what they may not", wren, token("view,approve"), false},
		{"where they may", linden, token("view,approve", "frostline/live"), true},
		{"where they may not", linden, token("view,approve", "frostline"), false},
		{"another place", linden, token("view,approve", "watering"), false},
		{"to look goes anywhere", linden, token("view", "watering"), true},
		{"by a token", byToken, token("view"), false},
	} {
		if err := rights.MayMake(tt.p, *tt.token); (err == nil) != tt.may || err != nil && !errors.Is(err, rights.ErrDenied) {
			t.Errorf("%s: %v", tt.name, err)
		}
	}
}
