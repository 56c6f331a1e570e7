// Package rights decides who has which rights where, from plain values, for the page, the API, git, event streams and
// the command line. All its functions can be called concurrently.
//
// A grant gives a permission, or a role, which is a named set of permissions, in a scope. A user has any number of
// grants, their own and those of their groups.
package rights

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Permission is a right to perform a kind of action.
type Permission string

// The permissions.
const (
	View       Permission = "view"        // view services, stages, versions, logs and the journal
	ViewBodies Permission = "view-bodies" // view events, responses and dead letters
	Invoke     Permission = "invoke"      // invoke functions manually
	Write      Permission = "write"       // push, commit, create repositories
	Request    Permission = "request"     // request deliveries
	Approve    Permission = "approve"     // approve or reject versions
	Override   Permission = "override"    // override a gate, with a reason
	SetSecrets Permission = "set-secrets" // set secrets
	UseSecrets Permission = "use-secrets" // use the values of secrets in a private copy
	Deploy     Permission = "deploy"      // run, retry and cancel deployments, roll back
	Administer Permission = "administer"  // move and delete services and repositories, manage users
)

// Permissions returns all permissions.
func Permissions() []Permission {
	return []Permission{View, ViewBodies, Invoke, Write, Request, Approve, Override, SetSecrets, UseSecrets,
		Deploy, Administer}
}

// Named returns all permissions as a list in words.
func Named() string { return Join(Permissions()) }

// Join lists permissions in words.
func Join(list []Permission) string {
	var out []string
	for _, a := range list {
		out = append(out, string(a))
	}
	return strings.Join(out, ", ")
}

// The roles.
const (
	Reader        = "reader"
	Author        = "author"
	Approver      = "approver"
	Operator      = "operator"
	Administrator = "administrator"
)

// Roles lists the roles, from the fewest rights on.
func Roles() []string { return []string{Reader, Author, Approver, Operator, Administrator} }

// Of returns the permissions of a role or a permission; none for an unknown one.
func Of(granted string) []Permission {
	switch granted {
	case Reader:
		return []Permission{View}
	case Author:
		return []Permission{View, ViewBodies, Invoke, Write, Request, SetSecrets, UseSecrets, Deploy}
	case Approver:
		return []Permission{View, ViewBodies, Invoke, Request, Approve, SetSecrets, Deploy}
	case Operator:
		return []Permission{View, ViewBodies, Invoke, Request, SetSecrets, Deploy}
	case Administrator:
		return Permissions()
	}
	if slices.Contains(Permissions(), Permission(granted)) {
		return []Permission{Permission(granted)}
	}
	return nil
}

// Grant is a role or a permission in a scope.
type Grant struct {
	Right string // one of Roles or Permissions
	In    Scope
}

// String returns the grant as it is shown: "an author in watering".
func (g Grant) String() string {
	if g.In == (Scope{}) {
		return withArticle(g.Right)
	}
	return withArticle(g.Right) + " in " + g.In.String()
}

func (g Grant) includes(a Permission) bool { return slices.Contains(Of(g.Right), a) }

// Person is a user with their grants.
type Person struct {
	Username string
	Grants   []Grant // their own and those of their groups
	Token    *Token  // the token that acts in their name; nil for themselves
}

// ErrDenied reports a missing right.
var ErrDenied = errors.New("not allowed")

// May returns nil if a person has a permission in a scope. The error wraps ErrDenied and names who has it. The right
// to view a stage includes its service's pages: a service is viewed by those who can view one of its stages.
func May(p Person, a Permission, at Scope) error {
	if p.Token != nil {
		if err := p.Token.allows(p.Username, a, at); err != nil {
			return err
		}
	}
	if allows(p.Grants, a, at) {
		return nil
	}
	if in := scopesOf(p.Grants, a); len(in) > 0 {
		return fmt.Errorf("%w: %s has the right to %s in %s, not in %s", ErrDenied, p.Username, a, list(in), at)
	}
	return fmt.Errorf("%w: %s is %s; the right to %s is required, which %s has", ErrDenied, p.Username,
		described(p.Grants), a, rolesWith(a))
}

// allows reports whether one of the grants includes a permission in a scope.
func allows(grants []Grant, a Permission, at Scope) bool {
	return slices.ContainsFunc(grants, func(g Grant) bool {
		return g.includes(a) && (g.In.covers(at) ||
			a == View && at.Service != "" && at.Stage == "" && g.In.Service == at.Service)
	})
}

// scopesOf lists the scopes in which grants include a permission.
func scopesOf(grants []Grant, a Permission) []Scope {
	var out []Scope
	for _, g := range grants {
		if g.includes(a) && !slices.Contains(out, g.In) {
			out = append(out, g.In)
		}
	}
	return out
}

// Anywhere reports whether a person has a permission in any scope.
func Anywhere(p Person, a Permission) bool {
	return len(scopesOf(p.Grants, a)) > 0 && (p.Token == nil || len(scopesOf(p.Token.Grants, a)) > 0)
}

// described returns what somebody is by their grants: "an author in watering, a reader".
func described(grants []Grant) string {
	if len(grants) == 0 {
		return "without a role"
	}
	var out []string
	for _, g := range grants {
		if text := g.String(); !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return strings.Join(out, ", ")
}

func withArticle(right string) string {
	switch {
	case slices.Contains(Permissions(), Permission(right)):
		return "a holder of the right to " + right
	case strings.ContainsAny(right[:min(1, len(right))], "aeiou"):
		return "an " + right
	}
	return "a " + right
}

func rolesWith(a Permission) string {
	var out []string
	for _, role := range Roles() {
		if slices.Contains(Of(role), a) {
			out = append(out, withArticle(role))
		}
	}
	return strings.Join(out, " or ")
}
