package delivery_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/timing"
)

func named(gates []delivery.Gate) string {
	var out []string
	for _, g := range gates {
		text := g.Kind + " " + string(g.State)
		if g.Standing {
			text += " (standing)"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// TestVersionCannotWeakenItsOwnGates tries every way in which a version could ease its own entry: the standing
// rules still apply.
func TestVersionCannotWeakenItsOwnGates(t *testing.T) {
	nobody := func(f *delivery.Facts) {
		f.Requested, f.Approvals, f.Branch = "", nil, "side"
		f.Rules.Plan.Deletes = []string{"x"}
		f.Earlier["preview"] = delivery.Earlier{State: delivery.Settled, Since: f.Now}
		f.Now = f.Now.Add(0)
	}
	for _, tt := range []struct {
		name   string
		change func(s *manifest.Stage)
		want   string
	}{
		{"no gates", func(s *manifest.Stage) { s.Gates = manifest.Gates{} },
			"before passed, request waiting, cases not-met (standing), soak waiting (standing), approvals waiting (standing), window passed (standing), rule not-met (standing)"},
		{"on push", func(s *manifest.Stage) { *s = manifest.Stage{Name: "live", When: manifest.OnPush, Branch: "side"} },
			"before passed (standing), request waiting (standing), cases not-met (standing), soak waiting (standing), approvals waiting (standing), window passed (standing), rule not-met (standing)"},
		{"on ready", func(s *manifest.Stage) { s.When = manifest.OnReady },
			"before passed, request waiting (standing), cases not-met, soak waiting, approvals waiting, window passed, rule not-met"},
		{"after another", func(s *manifest.Stage) { s.After, s.Gates = "trial", manifest.Gates{} },
			"before passed (standing), before waiting, request waiting, cases not-met (standing), soak waiting (standing), approvals waiting (standing), window passed (standing), rule not-met (standing)"},
		{"fewer approvals", func(s *manifest.Stage) { s.Gates.Approvals = &manifest.Approvals{Count: 0, AllowPushers: true} },
			"before passed, request waiting, cases not-met, soak waiting, approvals waiting (standing), approvals passed, window passed, rule not-met"},
		{"a rule that always holds", func(s *manifest.Stage) { s.Gates.Rules[0].Expression = "true" },
			"before passed, request waiting, cases not-met, soak waiting, approvals waiting, window passed, rule not-met (standing), rule passed"},
		{"tightened", func(s *manifest.Stage) { s.Gates.Approvals = &manifest.Approvals{Count: 3, From: "growers-council"} },
			"before passed, request waiting, cases not-met, soak waiting, approvals waiting (standing), approvals waiting, window passed, rule not-met"},
	} {
		own, f := stage(), fulfilled()
		tt.change(own)
		nobody(&f)
		gates := delivery.Gates(t.Context(), delivery.Entry{Own: own, Standing: stage()}, f)
		if got := named(gates); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.name, got, tt.want)
		}
		if delivery.AllPassed(gates) {
			t.Errorf("%s: it enters", tt.name)
		}
	}
}

// TestStrictStages keeps a stage strict regardless of the version.
func TestStrictStages(t *testing.T) {
	standing := &manifest.Stage{Name: "trial", When: manifest.OnPush, Branch: "main", ForbidWildcards: true}
	own := &manifest.Stage{Name: "trial", When: manifest.OnPush, Branch: "main"}
	f := delivery.Facts{Branch: "main", Wild: []string{"warn"}}
	if got := named(delivery.Gates(t.Context(), delivery.Entry{Own: own, Standing: standing},
		f)); got != "branch passed, strict not-met (standing)" && got != "branch passed (standing), strict not-met (standing)" {
		t.Error(got)
	}
	f.Wild = nil
	if gates := delivery.Gates(t.Context(), delivery.Entry{Own: own, Standing: standing}, f); !delivery.AllPassed(gates) {
		t.Errorf("%+v", gates)
	}
}

// TestBranchChangeRequiresTheCurrentBranch delivers a version that changes the branch from the present one
// only.
func TestBranchChangeRequiresTheCurrentBranch(t *testing.T) {
	main, side := &manifest.Stage{Name: "trial", When: manifest.OnPush, Branch: "main"},
		&manifest.Stage{Name: "trial", When: manifest.OnPush, Branch: "side"}
	for branch, want := range map[string]bool{"main": true, "side": false} {
		if got := delivery.AllPassed(delivery.Gates(t.Context(), delivery.Entry{Own: side, Standing: main},
			delivery.Facts{Branch: branch})); got != want {
			t.Errorf("from %s: it enters: %v", branch, got)
		}
	}
}

// TestRemovingAStage applies the standing rules, and always requires a request.
func TestRemovingAStage(t *testing.T) {
	ready := stage()
	ready.When = manifest.OnReady
	f := fulfilled()
	f.Requested = ""
	e := delivery.Entry{Standing: ready}
	if got := named(delivery.Gates(t.Context(), e, f)); !e.Removes() ||
		got != "before passed, request waiting, approvals passed, window passed, rule passed" {
		t.Error(got)
	}
	// The stage after a removed one does not wait for it.
	f.Earlier, f.Gone = map[string]delivery.Earlier{}, map[string]bool{"preview": true}
	if got := named(delivery.Gates(t.Context(), e, f)); got != "before passed, request waiting, approvals passed, window passed, rule passed" {
		t.Error(got)
	}
}

func TestRuleChanges(t *testing.T) {
	say := func(e delivery.Entry) string {
		var out []string
		for _, c := range e.RuleChanges() {
			text := fmt.Sprintf("%s: %s → %s", c.Rule, c.Before, c.After)
			if c.Loosens {
				text += " !"
			}
			if c.Differs {
				text += " ~"
			}
			out = append(out, text)
		}
		return strings.Join(out, "; ")
	}
	changed := func(change func(s *manifest.Stage)) delivery.Entry {
		s := stage()
		change(s)
		return delivery.Entry{Own: s, Standing: stage()}
	}
	window := func(was, is manifest.Window) delivery.Entry {
		e := changed(func(s *manifest.Stage) { s.Gates.Window = &is })
		e.Standing.Gates.Window = &was
		return e
	}
	calendar := func(days ...string) timing.Calendar {
		text := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//EN\r\n"
		for _, day := range days {
			text += "BEGIN:VEVENT\r\nUID:" + day + "\r\nDTSTAMP:20261101T000000Z\r\nSUMMARY:x\r\nDTSTART;VALUE=DATE:" + day + "\r\nEND:VEVENT\r\n"
		}
		c, err := timing.ParseCalendar(text+"END:VCALENDAR\r\n", time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	week := manifest.Window{Days: "mon-fri", Hours: "08:00-16:00", Zone: "Europe/Oslo"}
	morning, evening, oslo := week, week, week
	morning.Hours, evening.Hours, oslo.Hours, oslo.Zone = "09:00-12:00", "12:00-20:00", "06:00-15:00", "UTC"
	frozen := func(days ...string) manifest.Window {
		w := week
		w.Freezes, w.Calendar = "freezes.ics", calendar(days...)
		return w
	}
	shift := func(was, is manifest.Shift) delivery.Entry {
		e := changed(func(s *manifest.Stage) { s.Shift = &is })
		e.Standing.Shift = &was
		return e
	}
	steps := func(every time.Duration, steps ...float64) manifest.Shift {
		return manifest.Shift{Steps: steps, Every: every, MinInvocations: 50, AtMost: 2 * time.Hour}
	}
	for _, tt := range []struct {
		name, want string
		entry      delivery.Entry
	}{
		{"the first version", "", delivery.Entry{Own: stage()}},
		{"the same", "", delivery.Entry{Own: stage(), Standing: stage()}},
		{"gone", "stage: declared → removed !", delivery.Entry{Standing: stage()}},
		{"no approvals", "approvals: 2 approvals from growers-council → none !",
			changed(func(s *manifest.Stage) { s.Gates.Approvals = nil })},
		{"more approvals", "approvals: 2 approvals from growers-council → 3 approvals from growers-council",
			changed(func(s *manifest.Stage) { s.Gates.Approvals = &manifest.Approvals{Count: 3, From: "growers-council"} })},
		{"the author may", "approvals: 2 approvals from growers-council → 2 approvals from growers-council, authors allowed !", changed(func(s *manifest.Stage) {
			s.Gates.Approvals = &manifest.Approvals{Count: 2, From: "growers-council", AllowPushers: true}
		})},
		{"ready", "enter: after preview, on request → after preview, when ready !",
			changed(func(s *manifest.Stage) { s.When = manifest.OnReady })},
		{"a choice", "enter: after preview, on request → after preview, on request, also for selected functions !",
			changed(func(s *manifest.Stage) { s.AllowPartial = true })},
		{"no choice any more", "enter: after preview, on request, also for selected functions → after preview, on request",
			delivery.Entry{Own: stage(), Standing: choosing()}},
		{"on request alone", "enter: after preview, when ready → after preview, on request, also for selected functions",
			delivery.Entry{Own: choosing(), Standing: ready(choosing())}},
		{"a shorter soak", "soak: 30m, 200 invocations, errors under 1% → 10m, 200 invocations, errors under 1% !",
			changed(func(s *manifest.Stage) {
				soak := *s.Gates.Soak
				soak.For /= 3
				s.Gates.Soak = &soak
			})},
		{"more errors", "soak: 30m, 200 invocations, errors under 1% → 30m, 200 invocations, errors under 2% !",
			changed(func(s *manifest.Stage) { s.Gates.Soak = errorsUnder(*s.Gates.Soak, 0.02) })},
		{"any errors", "soak: 30m, 200 invocations, errors under 1% → 30m, 200 invocations !",
			changed(func(s *manifest.Stage) { s.Gates.Soak = errorsUnder(*s.Gates.Soak, 0) })},
		{"fewer errors", "soak: 30m, 200 invocations, errors under 1% → 30m, 200 invocations, errors under 0.5%",
			changed(func(s *manifest.Stage) { s.Gates.Soak = errorsUnder(*s.Gates.Soak, 0.005) })},
		{"errors that were all the same", "soak: 30m, 200 invocations → 30m, 200 invocations, errors under 1%", func() delivery.Entry {
			e := changed(func(*manifest.Stage) {})
			e.Standing.Gates.Soak = errorsUnder(*e.Standing.Gates.Soak, 0)
			return e
		}()},
		{"rules", "rule nothing-deleted: plan.deletes.size() == 0 → none !; rule new: none → true",
			changed(func(s *manifest.Stage) { s.Gates.Rules = []manifest.GateRule{{Name: "new", Expression: "true"}} })},
		{"window and cases", "cases: all → warn !; window: mon-thu 08:00-15:00 Europe/Oslo → none !",
			changed(func(s *manifest.Stage) { s.Gates.Window, s.Gates.Cases = nil, []string{"warn"} })},
		{"a shorter window", "window: mon-fri 08:00-16:00 Europe/Oslo → mon-fri 09:00-12:00 Europe/Oslo", window(week, morning)},
		{"a longer window", "window: mon-fri 09:00-12:00 Europe/Oslo → mon-fri 08:00-16:00 Europe/Oslo !", window(morning, week)},
		{"another window", "window: mon-fri 08:00-16:00 Europe/Oslo → mon-fri 12:00-20:00 Europe/Oslo ~", window(week, evening)},
		{"a longer one in another zone", "window: mon-fri 08:00-16:00 Europe/Oslo → mon-fri 06:00-15:00 UTC !", window(week, oslo)},
		{"a freeze", "window: mon-fri 08:00-16:00 Europe/Oslo → mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (1 event)",
			window(week, frozen("20261224"))},
		{"another freeze", "window: mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (1 event) → mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (2 events)",
			window(frozen("20261224"), frozen("20261224", "20261231"))},
		{"a freeze less", "window: mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (2 events) → mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (1 event) !",
			window(frozen("20261224", "20261231"), frozen("20261224"))},
		{"a freeze on another day", "window: mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (1 event) → mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (1 event) (changed) ~",
			window(frozen("20261224"), frozen("20261231"))},
		{"a shorter window with a freeze less", "window: mon-fri 08:00-16:00 Europe/Oslo, freezes from freezes.ics (1 event) → mon-fri 09:00-12:00 Europe/Oslo !",
			window(frozen("20261224"), morning)},
		{"another rule", "rule nothing-deleted: plan.deletes.size() == 0 → plan.deletes.size() < 3 ~",
			changed(func(s *manifest.Stage) {
				s.Gates.Rules = []manifest.GateRule{{Name: "nothing-deleted", Expression: "plan.deletes.size() < 3"}}
			})},
		{"another group", "approvals: 2 approvals from growers-council → 2 approvals from vets ~",
			changed(func(s *manifest.Stage) { s.Gates.Approvals = &manifest.Approvals{Count: 2, From: "vets"} })},
		{"a slower shift", "shift: 10%, 50%, every 10m → 5%, 25%, 50%, every 20m", shift(steps(10*time.Minute, 0.1, 0.5), steps(20*time.Minute, 0.05, 0.25, 0.5))},
		{"a faster shift", "shift: 10%, 50%, every 10m → 10%, 50%, every 5m !", shift(steps(10*time.Minute, 0.1, 0.5), steps(5*time.Minute, 0.1, 0.5))},
		{"a shift on fewer invocations", "shift: 10%, every 10m → 10%, every 10m, 20 invocations, at most 3h !", shift(steps(10*time.Minute, 0.1),
			manifest.Shift{Steps: []float64{0.1}, Every: 10 * time.Minute, MinInvocations: 20, AtMost: 3 * time.Hour})},
		{"a shift that waits longer", "shift: 10%, every 10m → 10%, every 10m, at most 3h", shift(steps(10*time.Minute, 0.1),
			manifest.Shift{Steps: []float64{0.1}, Every: 10 * time.Minute, MinInvocations: 50, AtMost: 3 * time.Hour})},
		{"another shift", "shift: 10%, 50%, every 10m → 20%, 30%, every 10m ~", shift(steps(10*time.Minute, 0.1, 0.5), steps(10*time.Minute, 0.2, 0.3))},
		{"targets and strict", "targets:  → local/north ~; wildcards: allowed → forbidden", changed(func(s *manifest.Stage) {
			s.Targets, s.ForbidWildcards = []manifest.Target{{Platform: "local", Region: "north"}}, true
		})},
	} {
		if got := say(tt.entry); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.name, got, tt.want)
		}
	}
}

func errorsUnder(s manifest.Soak, errors float64) *manifest.Soak {
	s.ErrorsUnder = errors
	return &s
}

func choosing() *manifest.Stage {
	s := stage()
	s.AllowPartial = true
	return s
}

func ready(s *manifest.Stage) *manifest.Stage {
	s.When = manifest.OnReady
	return s
}
