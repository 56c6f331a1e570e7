package view

import (
	"fmt"
	"strings"

	"rudmar/core/delivery"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/route"
	"rudmar/engine/observe"
	"rudmar/server/api"
)

// What people read of services, stages and manifests is said here.

// NothingObserved is said of a function without calls.
const NothingObserved = "nothing yet"

func versionWords(version int) string { return fmt.Sprintf("version %d", version) }

func stoppedWords(version int, why string) string {
	return fmt.Sprintf("%s: %s", versionWords(version), why)
}

// TimesADay says how often a schedule fires.
func TimesADay(n int) string {
	if n == 1 {
		return "once a day"
	}
	return fmt.Sprintf("%d times a day", n)
}

// ObservedWords says what a function took in a place.
func ObservedWords(at manifest.Place, f observe.Figures) string {
	return fmt.Sprintf("%s on %s: %s, memory peak %s, %.0f ms at most", at.Stage, at.Target,
		language.FormatCount(f.Calls, "call"), language.FormatSize(f.MemoryPeak), f.MaxMs)
}

// CallerWords says what calls a function by a trigger.
func CallerWords(t manifest.Trigger) string {
	switch t.Kind {
	case manifest.RouteTrigger:
		return t.Route.V.String()
	case manifest.CronTrigger:
		return "cron " + t.Cron.V + " in " + t.Zone.V
	case manifest.EveryTrigger:
		return "every " + language.FormatTime(t.Every.V)
	}
	source, _ := t.Source.V.Literal()
	return string(t.Kind) + " " + source
}

func triggerWords(t manifest.Trigger) string {
	if t.Off.V {
		return CallerWords(t) + " (off)"
	}
	return CallerWords(t)
}

// RouteWords says which requests a route takes, and what becomes of its parameters.
func RouteWords(t manifest.Trigger) []string {
	r := t.Route.V
	method := r.Method
	if method == "ANY" {
		method = "any method"
	}
	lines := []string{fmt.Sprintf("%s on %s, open to %s", method, r.Path(), strings.Join(t.OpenTo.V, ", "))}
	for _, s := range r.Segments {
		switch s.Kind {
		case route.Parameter:
			lines = append(lines, fmt.Sprintf("{%s} is one segment, given as params.%s", s.Text, s.Text))
		case route.Rest:
			lines = append(lines, fmt.Sprintf("{%s...} is all the rest of the path, one segment or more", s.Text))
		}
	}
	return lines
}

// PermissionWords says what a permission allows.
func PermissionWords(p manifest.Permission) []string {
	of, literal := p.Of.Literal()
	if !literal {
		return []string{"it may " + strings.Join(p.May, ", ") + " what the reference names in each stage"}
	}
	kind, name, _ := strings.Cut(of, "/")
	what := fmt.Sprintf("the %s %s", strings.TrimSuffix(kind, "s"), name)
	if prefix, open := strings.CutSuffix(name, "*"); open {
		what = fmt.Sprintf("every one of %s whose name starts with %q", kind, prefix)
		if prefix == "" {
			what = "all " + kind
		}
	}
	var lines []string
	for _, verb := range p.May {
		if verb == "*" {
			verb = "do everything with"
		}
		lines = append(lines, verb+" "+what)
	}
	return lines
}

// WhyRoute says why the first of the routes that match wins.
func WhyRoute(routes []route.Route) string {
	switch {
	case len(routes) == 0:
		return "no route takes it: it is answered with 404"
	case len(routes) == 1:
		return "only this route takes it"
	}
	a, b := routes[0], routes[1]
	for i := range min(len(a.Segments), len(b.Segments)) {
		if a.Segments[i].Kind != b.Segments[i].Kind {
			kinds := map[route.SegmentKind]string{route.Literal: "a literal",
				route.Parameter: "a parameter", route.Rest: "a rest"}
			return fmt.Sprintf("%s goes first: at segment %d it has %s, %s has %s", a, i+1, kinds[a.Segments[i].Kind], b,
				kinds[b.Segments[i].Kind])
		}
	}
	return fmt.Sprintf("%s goes first: it names its method", a)
}

// waitsForSomebody says what a version that got this far waits for from people.
func waitsForSomebody(gates []delivery.Gate) string {
	var out []string
	for _, g := range gates {
		switch {
		case g.Kind == delivery.BeforeGate && g.State != delivery.Holds:
			return ""
		case (g.Kind == delivery.ApprovalsGate || g.Kind == delivery.RequestGate) && g.State == delivery.Waits:
			out = append(out, g.Why)
		}
	}
	return strings.Join(out, "; ")
}

func parkedWords(n int, function, stage string) string {
	if n == 1 {
		return fmt.Sprintf("%d message of %s failed five times and is parked in %s", n, function, stage)
	}
	return fmt.Sprintf("%d messages of %s failed five times and are parked in %s", n, function, stage)
}

// Runnable says how a plan is run: at once, by taking a version back, which was
// in the stage before, or through its delivery.
func Runnable(p *plan.Plan, was bool) api.Runnable {
	b := p.Base
	switch {
	case len(p.Problems) > 0:
		return api.Runnable{How: api.RunnableHowStopped, Why: "That has to be put right first."}
	case b.Version == b.From && p.Empty():
		return api.Runnable{How: api.RunnableHowNothing,
			Why: fmt.Sprintf("%s has just what version %d wants: there is nothing to do.", b.Stage, b.Version)}
	case b.Version == b.From:
		return api.Runnable{How: api.RunnableHowRun,
			Why: fmt.Sprintf("Makes %s on %s what version %d wants now.", b.Stage, b.Target, b.Version)}
	case was && b.Version > b.From:
		return api.Runnable{How: api.RunnableHowReturn,
			Why: fmt.Sprintf("Puts version %d into %s again, in the place of version %d.", b.Version, b.Stage, b.From)}
	case was:
		return api.Runnable{How: api.RunnableHowReturn,
			Why: fmt.Sprintf("Takes %s back from version %d to version %d.", b.Stage, b.From, b.Version)}
	}
	return api.Runnable{How: api.RunnableHowDelivery,
		Why: fmt.Sprintf("Version %d enters %s through its delivery, when its gates hold.", b.Version, b.Stage)}
}

// aheadWords tells the first of what would stop a plan, and how many more there are.
func aheadWords(stops []string) string {
	if len(stops) == 1 {
		return stops[0]
	}
	return fmt.Sprintf("%s; and %d more", stops[0], len(stops)-1)
}

// few is how many names are told in a sentence.
const few = 3

func fewWords(names []string) string {
	if len(names) <= few {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:few], ", "), len(names)-few)
}
