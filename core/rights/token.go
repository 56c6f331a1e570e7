package rights

import (
	"fmt"
	"slices"
	"strings"
)

// Token narrows a person's rights for a machine: to these permissions, in these places, and never beyond the
// person's present rights.
type Token struct {
	Name        string
	Permissions []Permission
	In          []Where // everywhere if there is none
}

// allows returns nil if a token covers a permission in a place. A token for a stage can view the whole service:
// its stages differ in settings alone.
func (t Token) allows(username string, a Permission, at Where) error {
	if !slices.Contains(t.Permissions, a) {
		var acts []string
		for _, act := range t.Permissions {
			acts = append(acts, string(act))
		}
		return fmt.Errorf("%w: the token %s of %s has %s, not %s; create one on the Account page or with rudmar token create",
			ErrDenied, t.Name, username, strings.Join(acts, ", "), a)
	}
	if a == View && at.Service != "" {
		at.Stage = ""
	}
	reaches := func(w Where) bool { return w.covers(at) || a == View && w.Service == at.Service }
	if len(t.In) == 0 || slices.ContainsFunc(t.In, reaches) {
		return nil
	}
	return fmt.Errorf("%w: the token %s of %s is limited to %s, not %s", ErrDenied, t.Name, username, list(t.In), at)
}

// MayMake returns nil if somebody can create a token: with permissions that they have, and for places within
// their own role. A view token can be for any place.
func MayMake(p Person, t Token) error {
	if p.Token != nil {
		return fmt.Errorf("%w: a token cannot create another one; sign in with username and password", ErrDenied)
	}
	for _, a := range t.Permissions {
		if !slices.Contains(Of(p.Role), a) {
			return fmt.Errorf("%w: %s is %s and has no right to %s to grant; %s has", ErrDenied, p.Username,
				withArticle(p.Role), a, rolesWith(a))
		}
		for _, at := range t.In {
			if err := May(p, a, at); err != nil {
				return err
			}
		}
	}
	return nil
}

func list(in []Where) string {
	var out []string
	for _, w := range in {
		out = append(out, w.String())
	}
	return strings.Join(out, ", ")
}
