package rights_test

import (
	"errors"
	"strings"
	"testing"

	"rudmar/core/rights"
)

func token(acts string, scopes ...string) *rights.Token {
	t := &rights.Token{Name: "nightly"}
	if len(scopes) == 0 {
		scopes = []string{""}
	}
	for _, a := range strings.Split(acts, ",") {
		for _, in := range scopes {
			t.Grants = append(t.Grants, rights.Grant{Right: a, In: scope(in)})
		}
	}
	return t
}

// A token has the intersection of its own and its creator's rights.
func TestTokensNarrow(t *testing.T) {
	everywhere := person("wren", rights.Approver)
	inPreview := person("linden", "approver in frostline/preview")
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
		{everywhere, token("view,approve", "frostline/live"), rights.View, "frostline/preview", false},
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
		err := rights.May(p, tt.act, scope(tt.at))
		if (err == nil) != tt.may || err != nil && !errors.Is(err, rights.ErrDenied) {
			t.Errorf("%s with %v %v: %s at %q: %v", p.Username, tt.token.Permissions(), tt.token.Grants, tt.act, tt.at, err)
		}
	}
}

func TestWhoCanCreateTokens(t *testing.T) {
	wren := person("wren", rights.Author)
	linden := person("linden", "approver in frostline/live")
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
		{"to view elsewhere", linden, token("view", "watering"), false},
		{"without limits of its own", linden, token("view,approve"), true},
		{"by a token", byToken, token("view"), false},
	} {
		if err := rights.MayMake(tt.p, *tt.token); (err == nil) != tt.may || err != nil && !errors.Is(err, rights.ErrDenied) {
			t.Errorf("%s: %v", tt.name, err)
		}
	}
}
