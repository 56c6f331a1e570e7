package delivery

import (
	"slices"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/timing"
)

// order is how strict a rule is compared with an earlier one. Rules are partially ordered: two of which neither
// admits everything that the other admits are only different.
type order int

const (
	equal order = iota
	stricter
	different
	weaker
)

// and combines the orders of two independent parts of a rule: a rule of which one part is weaker is weaker, and
// otherwise one of which a part is different is different.
func (o order) and(p order) order { return max(o, p) }

// present compares the presence of a rule: a new one is stricter, a removed one weaker.
func present(was, is bool) (order, bool) {
	switch {
	case was == is:
		return equal, was
	case is:
		return stricter, false
	}
	return weaker, false
}

// ranked compares two values of which the greater one is stricter.
func ranked[T int | float64 | time.Duration](was, is T) order {
	switch {
	case is > was:
		return stricter
	case is < was:
		return weaker
	}
	return equal
}

// named compares two names: different ones cannot be ordered, and a restriction to a name is stricter than none.
func named(was, is string) order {
	switch {
	case was == is:
		return equal
	case was == "":
		return stricter
	case is == "":
		return weaker
	}
	return different
}

func flag(was, is bool) order { return ranked(bit(was), bit(is)) }

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

func compareEnter(was, is *manifest.Stage) order {
	rank := map[string]int{manifest.OnPush: 0, manifest.OnReady: 1, manifest.OnRequest: 2}
	o := ranked(rank[was.When], rank[is.When]).and(flag(!was.AllowPartial, !is.AllowPartial))
	if was.When == manifest.OnPush && is.When == manifest.OnPush {
		return o.and(named(was.Branch, is.Branch))
	}
	if was.When != manifest.OnPush && is.When != manifest.OnPush {
		return o.and(named(was.After, is.After))
	}
	return o
}

func compareCases(was, is []string) order {
	switch {
	case slices.Equal(was, is):
		return equal
	case coversCases(is, was):
		return stricter
	}
	return weaker
}

func compareSoak(was, is *manifest.Soak) order {
	o, both := present(was != nil, is != nil)
	if !both {
		return o
	}
	allowed := func(s *manifest.Soak) float64 {
		if s.ErrorsUnder == 0 {
			return 1
		}
		return s.ErrorsUnder
	}
	return ranked(was.For, is.For).and(ranked(was.MinInvocations, is.MinInvocations)).
		and(ranked(-allowed(was), -allowed(is)))
}

func compareApprovals(was, is *manifest.Approvals) order {
	o, both := present(was != nil, is != nil)
	if !both {
		return o
	}
	return ranked(was.Count, is.Count).and(named(was.From, is.From)).and(flag(!was.AllowPushers, !is.AllowPushers))
}

// compareWindows compares the sets of minutes at which windows are open, and the events of their freezes. An
// address of a calendar cannot be compared with another one.
func compareWindows(was, is *manifest.Window) order {
	o, both := present(was != nil, is != nil)
	if !both {
		return o
	}
	return compareMinutes(was, is).and(compareFreezes(was, is))
}

// compareMinutes compares windows over a year, because zones differ in their clock changes.
func compareMinutes(was, is *manifest.Window) order {
	if was.Days == is.Days && was.Hours == is.Hours && was.Zone == is.Zone {
		return equal
	}
	before, err := timing.ParseWindow(was.Days, was.Hours, was.Zone)
	if err != nil {
		return different
	}
	after, err := timing.ParseWindow(is.Days, is.Hours, is.Zone)
	if err != nil {
		return different
	}
	from := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	a, b := before.Openings(from, 366, timing.Calendar{}), after.Openings(from, 366, timing.Calendar{})
	same := func(x, y timing.Opening) bool { return x.From.Equal(y.From) && x.To.Equal(y.To) }
	common := timing.Intersect(a, b)
	return included(slices.EqualFunc(common, a, same), slices.EqualFunc(common, b, same))
}

func compareFreezes(was, is *manifest.Window) order {
	if was.FreezesAddress() != "" || is.FreezesAddress() != "" {
		return named(was.Freezes, is.Freezes)
	}
	// More freezes admit less.
	return included(was.Calendar.Contains(is.Calendar), is.Calendar.Contains(was.Calendar))
}

// included returns the order of two sets of what is admitted: whether the earlier one is in the later one, and the
// later one in the earlier one.
func included(earlierInLater, laterInEarlier bool) order {
	switch {
	case earlierInLater && laterInEarlier:
		return equal
	case laterInEarlier:
		return stricter
	case earlierInLater:
		return weaker
	}
	return different
}

// compareShifts compares the share of the new version at each time, and what each step needs.
func compareShifts(was, is *manifest.Shift) order {
	o, both := present(was != nil, is != nil)
	if !both {
		return o
	}
	share := func(s *manifest.Shift, at time.Duration) float64 {
		if i := int(at / max(s.Every, 1)); i < len(s.Steps) {
			return s.Steps[i]
		}
		return 1
	}
	notMore, notLess := true, true
	for _, s := range []*manifest.Shift{was, is} {
		for i := range len(s.Steps) + 1 {
			for _, at := range []time.Duration{time.Duration(i) * s.Every, time.Duration(i+1)*s.Every - 1} {
				a, b := share(was, at), share(is, at)
				notMore, notLess = notMore && b <= a, notLess && b >= a
			}
		}
	}
	return included(notLess, notMore).and(ranked(was.MinInvocations, is.MinInvocations)).and(
		ranked(was.AtMost, is.AtMost))
}

// compareRules compares two CEL expressions, "none" for a rule that is not there: other text cannot be ordered.
func compareRules(was, is string) order {
	if o, both := present(was != "none", is != "none"); !both {
		return o
	}
	return named(was, is)
}

// compareTargets compares how targets are deployed: all at once, one after another, each tested.
func compareTargets(was, is *manifest.Stage) order {
	rank := func(s *manifest.Stage) int {
		switch {
		case s.TestEach():
			return 2
		case s.Parallel():
			return 0
		}
		return 1
	}
	o := equal
	if !slices.Equal(was.Targets, is.Targets) {
		o = different
	}
	return o.and(ranked(rank(was), rank(is)))
}
