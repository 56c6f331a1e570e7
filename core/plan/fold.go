package plan

import (
	"slices"

	"rudmar/core/resource"
)

// fold marks the steps that another one causes, so each cause is one line: a changed memory limit is reported
// for the function, and not again for its revision and its traffic pointer.
func (b *builder) fold() {
	for i := range b.steps {
		s := &b.steps[i]
		if head, there := b.head(s); there && head != i {
			s.Follows = b.steps[head].Address
		}
	}
}

// head returns the step that a step follows; false if it is independent.
func (b *builder) head(s *Step) (head int, there bool) {
	switch {
	case s.RenamedFrom != "":
		return 0, false // the new name is what matters
	case !b.declared(s.Function) && s.Change == resource.Delete:
		return b.stepOf(resource.Function, s.Function)
	case !b.recorded(s.Function) && comesAlong(s.Kind):
		return b.stepOf(resource.Function, s.Function)
	case s.Kind == resource.Revision && !slices.ContainsFunc(s.Because, byFiles):
		return b.stepOf(resource.Function, s.Function)
	case s.Kind == resource.Pointer:
		return b.headOfPointer(s)
	case s.Kind == resource.Opening:
		_, rest := resource.Split(s.Address)
		if j, there := b.stepOf(resource.Route, rest); there && b.steps[j].Change == s.Change &&
			(s.Change == resource.Create || s.Change == resource.Delete) {
			return j, true
		}
	}
	return 0, false
}

// comesAlong reports whether each function has one of a kind.
func comesAlong(kind string) bool {
	switch kind {
	case resource.Identity, resource.Logs, resource.Revision, resource.Pointer:
		return true
	}
	return false
}

func byFiles(c Cause) bool { return c.Kind == ByFiles }

// stepOf returns the step of a kind of resource with the rest of its address.
func (b *builder) stepOf(kind, rest string) (int, bool) {
	i, there := b.at[kind+"/"+rest]
	return i, there
}

// headOfPointer continues from a pointer's revision. A pointer that was moved outside Rudmar, while its
// revision is unchanged, is independent.
func (b *builder) headOfPointer(s *Step) (int, bool) {
	revision, there := b.stepOf(resource.Revision, s.Function)
	if !there {
		return 0, false
	}
	if head, there := b.head(&b.steps[revision]); there {
		return head, true
	}
	return revision, true
}
