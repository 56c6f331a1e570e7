package rights

import (
	"fmt"
	"slices"
	"strings"
)

// Token narrows a person's rights for a machine: to these grants, and never beyond the person's present rights.
type Token struct {
	Name   string
	Grants []Grant
}

// allows returns nil if a token covers a permission in a scope.
func (t Token) allows(username string, a Permission, at Scope) error {
	in := scopesOf(t.Grants, a)
	if len(in) == 0 {
		return fmt.Errorf("%w: the token %s of %s has %s, not %s; create one on the Account page or with rudmar token create",
			ErrDenied, t.Name, username, Join(t.Permissions()), a)
	}
	if !allows(t.Grants, a, at) {
		return fmt.Errorf("%w: the token %s of %s is limited to %s, not %s", ErrDenied, t.Name, username, list(in), at)
	}
	return nil
}

// Permissions lists the permissions of a token, in the order of Permissions.
func (t Token) Permissions() []Permission {
	return slices.DeleteFunc(Permissions(), func(a Permission) bool { return len(scopesOf(t.Grants, a)) == 0 })
}

// MayMake returns nil if somebody can create a token: with permissions that they have, in the scopes where they have
// them. They must have a permission somewhere for a token without limits.
func MayMake(p Person, t Token) error {
	if p.Token != nil {
		return fmt.Errorf("%w: a token cannot create another one; sign in with username and password", ErrDenied)
	}
	for _, a := range t.Permissions() {
		if !Anywhere(p, a) {
			return fmt.Errorf("%w: %s is %s and has no right to %s to grant; %s has", ErrDenied, p.Username,
				described(p.Grants), a, rolesWith(a))
		}
		for _, at := range scopesOf(t.Grants, a) {
			if at == (Scope{}) {
				continue // it narrows nothing: the person's own rights decide
			}
			if err := May(p, a, at); err != nil {
				return err
			}
		}
	}
	return nil
}

func list(in []Scope) string {
	var out []string
	for _, s := range in {
		out = append(out, s.String())
	}
	return strings.Join(out, ", ")
}
