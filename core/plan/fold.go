package plan

import (
	"slices"

	"rudmar/core/resource"
)

// fold marks the steps that another one brings with it, so that one cause is one
// line: a changed memory is told by the function, and not again by the revision
// that keeps it and by the pointer that leads to it.
func (b *builder) fold() {
	for i := range b.steps {
		s := &b.steps[i]
		if head := b.head(s); head != "" && head != s.Address {
			if _, there := b.at[head]; there {
				s.Follows = head
			}
		}
	}
}

// head gives the address of the step that a step follows, if it is there; "" for none.
func (b *builder) head(s *Step) string {
	function := resource.Function + "/" + s.Function
	_, rest := resource.Split(s.Address)
	byFiles := slices.ContainsFunc(s.Because, func(c Cause) bool { return c.Kind == ByFiles })
	comes, goes := !b.recorded(s.Function), !b.declared(s.Function)
	switch {
	case s.Was != "":
		return "" // its new name is the story
	case goes && s.Change == resource.Delete:
		return function
	case comes && slices.Contains([]string{resource.Identity, resource.Logs, resource.Revision, resource.Pointer}, s.Kind):
		return function
	case s.Kind == resource.Revision && !byFiles:
		return function
	case s.Kind == resource.Pointer:
		return b.headOfPointer(function, s)
	case s.Kind == resource.Opening:
		if j, there := b.at[resource.Route+"/"+rest]; there && b.steps[j].Change == s.Change &&
			(s.Change == resource.Create || s.Change == resource.Delete) {
			return resource.Route + "/" + rest
		}
	}
	return ""
}

// headOfPointer goes on from the revision that a pointer leads to. A pointer that
// was moved by hand, while its revision stays, stands for itself.
func (b *builder) headOfPointer(function string, s *Step) string {
	j, there := b.at[resource.Revision+"/"+s.Function]
	if !there {
		return ""
	}
	if head := b.head(&b.steps[j]); head == function {
		if _, there := b.at[function]; there {
			return function
		}
	}
	return b.steps[j].Address
}
