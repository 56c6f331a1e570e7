package rights

import (
	"fmt"
	"slices"
	"strings"
)

// Token narrows what is done in somebody's name by a machine: to these acts, in
// these places, and never to more than they may themselves when it is done.
type Token struct {
	Name string
	Acts []Act
	In   []Where // everywhere where there is none
}

// allows tells whether a token is for an act in a place; nil where it is. One for
// a stage may look at the whole service: its stages differ in settings alone.
func (t Token) allows(handle string, a Act, at Where) error {
	if !slices.Contains(t.Acts, a) {
		var acts []string
		for _, act := range t.Acts {
			acts = append(acts, string(act))
		}
		return fmt.Errorf("%w: the token %s of %s is for %s, not to %s; make one that is on the page You, or with rudmar token new",
			ErrRefused, t.Name, handle, strings.Join(acts, ", "), a)
	}
	if a == Look && at.Service != "" {
		at.Stage = ""
	}
	reaches := func(w Where) bool { return w.covers(at) || a == Look && w.Service == at.Service }
	if len(t.In) == 0 || slices.ContainsFunc(t.In, reaches) {
		return nil
	}
	return fmt.Errorf("%w: the token %s of %s is for %s, not for %s", ErrRefused, t.Name, handle, list(t.In), at)
}

// MayMake tells whether somebody may make a token: with acts that they have, and
// for places that their own role reaches; nil where they may. A token to look is
// one for any place.
func MayMake(p Person, t Token) error {
	if p.Token != nil {
		return fmt.Errorf("%w: a token cannot make another: sign in yourself, with handle and password", ErrRefused)
	}
	for _, a := range t.Acts {
		if !slices.Contains(Of(p.Role), a) {
			return fmt.Errorf("%w: %s is %s and has no right to %s to give on; %s has", ErrRefused, p.Handle,
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
