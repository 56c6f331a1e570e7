// Package rights decides who may do what where, over plain values: for the page,
// the API, git and the command line alike.
//
// A role is a named bundle of acts. Somebody has a role everywhere, or only in
// some services, or in some stages of them.
package rights

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Act is something that people do.
type Act string

// The acts.
const (
	Look      Act = "look"       // read
	Try       Act = "try"        // call functions by hand
	Write     Act = "write"      // push, commit, make repositories
	Ask       Act = "ask"        // ask for a version in a stage
	Approve   Act = "approve"    // say yes or no to a version
	PassOver  Act = "pass over"  // let a version in without one of its gates, for a reason
	Secrets   Act = "secrets"    // set secrets
	Run       Act = "run"        // run plans, go on, cancel, take back
	LookAfter Act = "look after" // move and remove services and repositories, say who may what
)

// Acts lists all acts.
func Acts() []Act {
	return []Act{Look, Try, Write, Ask, Approve, PassOver, Secrets, Run, LookAfter}
}

// Named names all acts, for somebody who named another.
func Named() string {
	var out []string
	for _, a := range Acts() {
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

// Roles lists the roles, from that which may least on.
func Roles() []string { return []string{Reader, Author, Approver, Operator, Administrator} }

// Of gives what a role may do; nothing for one that is not.
func Of(role string) []Act {
	switch role {
	case Reader:
		return []Act{Look}
	case Author:
		return []Act{Look, Try, Write, Ask, Secrets, Run}
	case Approver:
		return []Act{Look, Try, Ask, Approve, Secrets, Run}
	case Operator:
		return []Act{Look, Try, Ask, Secrets, Run}
	case Administrator:
		return Acts()
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

// String gives the place as it is written; "everywhere" for the zero value.
func (w Where) String() string {
	switch {
	case w.Service == "":
		return "everywhere"
	case w.Stage == "":
		return w.Service
	}
	return w.Service + "/" + w.Stage
}

// covers tells whether a right here is a right there too.
func (w Where) covers(o Where) bool {
	return (w.Service == "" || w.Service == o.Service) && (w.Stage == "" || w.Stage == o.Stage)
}

// Person is who wants to do something.
type Person struct {
	Handle, Role string
	In           []Where // where the role holds; everywhere where there is none
	Token        *Token  // what acts in their name, nil where they do themselves
}

// ErrRefused tells that somebody may not do something.
var ErrRefused = errors.New("not allowed")

// May tells whether a person may do something somewhere; nil where they may. The
// error wraps ErrRefused and says whom it takes. A person may look everywhere,
// whatever their role, as long as they have one; a token only where it is for.
func May(p Person, a Act, at Where) error {
	if p.Token != nil {
		if err := p.Token.allows(p.Handle, a, at); err != nil {
			return err
		}
	}
	acts := Of(p.Role)
	switch {
	case a == Look && len(acts) > 0:
		return nil
	case !slices.Contains(acts, a):
		return fmt.Errorf("%w: %s is %s; this takes the right to %s, which %s has", ErrRefused, p.Handle,
			withArticle(p.Role), a, rolesWith(a))
	case len(p.In) == 0 || slices.ContainsFunc(p.In, func(w Where) bool { return w.covers(at) }):
		return nil
	}
	return fmt.Errorf("%w: %s is %s in %s, not in %s", ErrRefused, p.Handle, withArticle(p.Role), list(p.In), at)
}

// Anywhere tells whether a person may do something in some place.
func Anywhere(p Person, a Act) bool {
	return slices.Contains(Of(p.Role), a) && (p.Token == nil || slices.Contains(p.Token.Acts, a))
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

func rolesWith(a Act) string {
	var out []string
	for _, role := range Roles() {
		if slices.Contains(Of(role), a) {
			out = append(out, withArticle(role))
		}
	}
	return strings.Join(out, " or ")
}
