// Package rights decides who has which permissions where, from plain values, for the page, the
// API, git and the command line.
//
// A role is a named set of permissions. A user has a role everywhere, or only in some services or
// stages.
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
	View       Permission = "view"        // view everything
	Invoke     Permission = "invoke"      // invoke functions manually
	Write      Permission = "write"       // push, commit, create repositories
	Request    Permission = "request"     // request deliveries
	Approve    Permission = "approve"     // approve or reject versions
	Override   Permission = "override"    // override a gate, with a reason
	SetSecrets Permission = "set-secrets" // set secrets
	Deploy     Permission = "deploy"      // run, retry and cancel deployments, roll back
	Administer Permission = "administer"  // move and delete services and repositories, manage users
)

// Permissions returns all permissions.
func Permissions() []Permission {
	return []Permission{View, Invoke, Write, Request, Approve, Override, SetSecrets, Deploy, Administer}
}

// Named returns all permissions as a list in words.
func Named() string {
	var out []string
	for _, a := range Permissions() {
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

// Of returns the rights of a role; none for an unknown one.
func Of(role string) []Permission {
	switch role {
	case Reader:
		return []Permission{View}
	case Author:
		return []Permission{View, Invoke, Write, Request, SetSecrets, Deploy}
	case Approver:
		return []Permission{View, Invoke, Request, Approve, SetSecrets, Deploy}
	case Operator:
		return []Permission{View, Invoke, Request, SetSecrets, Deploy}
	case Administrator:
		return Permissions()
	}
	return nil
}

// Where is a service, or a stage of one; the zero value is everywhere.
type Where struct{ Service, Stage string }

// ParseWhere reads "service" or "service/stage".
func ParseWhere(text string) Where {
	service, stage, _ := strings.Cut(text, "/")
	return Where{service, stage}
}

// String returns the place as it is written; "everywhere" for the zero value.
func (w Where) String() string {
	switch {
	case w.Service == "":
		return "everywhere"
	case w.Stage == "":
		return w.Service
	}
	return w.Service + "/" + w.Stage
}

// covers reports whether a right here is a right there too.
func (w Where) covers(o Where) bool {
	return (w.Service == "" || w.Service == o.Service) && (w.Stage == "" || w.Stage == o.Stage)
}

// Person is a user with their role.
type Person struct {
	Username, Role string
	In             []Where // where the role applies; everywhere if there is none
	Token          *Token  // the token that acts in their name; nil for themselves
}

// ErrDenied reports a missing right.
var ErrDenied = errors.New("not allowed")

// May returns nil if a person has a permission somewhere. The error wraps ErrDenied and names who has it. A
// person with any role can view everything; a token only its places.
func May(p Person, a Permission, at Where) error {
	if p.Token != nil {
		if err := p.Token.allows(p.Username, a, at); err != nil {
			return err
		}
	}
	acts := Of(p.Role)
	switch {
	case a == View && len(acts) > 0:
		return nil
	case !slices.Contains(acts, a):
		return fmt.Errorf("%w: %s is %s; the right to %s is required, which %s has", ErrDenied, p.Username,
			withArticle(p.Role), a, rolesWith(a))
	case len(p.In) == 0 || slices.ContainsFunc(p.In, func(w Where) bool { return w.covers(at) }):
		return nil
	}
	return fmt.Errorf("%w: %s is %s in %s, not in %s", ErrDenied, p.Username, withArticle(p.Role), list(p.In), at)
}

// Anywhere reports whether a person has a permission in any place.
func Anywhere(p Person, a Permission) bool {
	return slices.Contains(Of(p.Role), a) && (p.Token == nil || slices.Contains(p.Token.Permissions, a))
}

func withArticle(role string) string {
	switch {
	case role == "":
		return "nobody"
	case strings.ContainsAny(role[:1], "aeiou"):
		return "an " + role
	}
	return "a " + role
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
