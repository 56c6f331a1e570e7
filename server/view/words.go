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

// The sentences about services, stages and manifests are in this file.

// NothingObserved describes a function without invocations.
const NothingObserved = "no invocations"

func versionWords(version int) string { return fmt.Sprintf("version %d", version) }

func stoppedWords(version int, why string) string {
	return fmt.Sprintf("%s: %s", versionWords(version), why)
}

// TimesADay returns how often a schedule fires.
func TimesADay(n int) string {
	if n == 1 {
		return "once a day"
	}
	return fmt.Sprintf("%d times a day", n)
}

// ObservedWords describes a function's usage in a place.
func ObservedWords(at manifest.Place, f observe.Metrics) string {
	return fmt.Sprintf("%s on %s: %s, memory peak %s, at most %.0f ms", at.Stage, at.Target,
		language.FormatCount(f.Invocations, "invocation"), language.FormatSize(f.MemoryPeak), f.MaxMs)
}

// CallerWords describes what invokes a function by a trigger.
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
	if !t.Enabled.V {
		return CallerWords(t) + " (disabled)"
	}
	return CallerWords(t)
}

// RouteWords describes the requests that a route matches, and its parameters.
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
			lines = append(lines, fmt.Sprintf("{%s} is one segment, available as params.%s", s.Text, s.Text))
		case route.Rest:
			lines = append(lines, fmt.Sprintf("{%s...} is the rest of the path, one segment or more", s.Text))
		}
	}
	return lines
}

// PermissionWords describes a permission.
func PermissionWords(p manifest.Permission) []string {
	of, literal := p.Resource.Literal()
	if !literal {
		return []string{"it can " + strings.Join(p.Allow, ", ") + " the resource named by the reference in each stage"}
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
	for _, verb := range p.Allow {
		if verb == "*" {
			verb = "use every verb on"
		}
		lines = append(lines, verb+" "+what)
	}
	return lines
}

// WhyRoute returns why the first of the routes that match wins.
func WhyRoute(routes []route.Route) string {
	switch {
	case len(routes) == 0:
		return "no route matches; the response is 404"
	case len(routes) == 1:
		return "only this route matches"
	}
	a, b := routes[0], routes[1]
	for i := range min(len(a.Segments), len(b.Segments)) {
		if a.Segments[i].Kind != b.Segments[i].Kind {
			kinds := map[route.SegmentKind]string{route.Literal: "a literal",
				route.Parameter: "a parameter", route.Rest: "a rest"}
			return fmt.Sprintf("%s has precedence: segment %d is %s, and %s has %s", a, i+1, kinds[a.Segments[i].Kind], b,
				kinds[b.Segments[i].Kind])
		}
	}
	return fmt.Sprintf("%s has precedence: it names its method", a)
}

// needsRequest returns what a version is waiting for from people.
func needsRequest(gates []delivery.Gate) string {
	var out []string
	for _, g := range gates {
		switch {
		case g.Kind == delivery.BeforeGate && !g.Passed():
			return ""
		case (g.Kind == delivery.ApprovalsGate || g.Kind == delivery.RequestGate) && g.State == delivery.GateWaiting:
			out = append(out, g.Reason)
		}
	}
	return strings.Join(out, "; ")
}

func deadLetterWords(n int, function, stage string) string {
	if n == 1 {
		return fmt.Sprintf("%d message of %s failed five times and is a dead letter in %s", n, function, stage)
	}
	return fmt.Sprintf("%d messages of %s failed five times and are dead letters in %s", n, function, stage)
}

// Runnable returns how a plan is run: at once, by taking a version back, which was
// in the stage before, or through its delivery.
func Runnable(p *plan.Plan, was bool) api.Runnable {
	b := p.Base
	switch {
	case len(p.Blockers) > 0:
		return api.Runnable{Action: api.RunnableActionBlocked, Reason: "Fix the blockers first."}
	case b.Version == b.From && p.Empty():
		return api.Runnable{Action: api.RunnableActionNone,
			Reason: fmt.Sprintf("%s already matches version %d.", b.Stage, b.Version)}
	case b.Version == b.From:
		return api.Runnable{Action: api.RunnableActionRun,
			Reason: fmt.Sprintf("Deploys version %[3]d to %[1]s on %[2]s now.", b.Stage, b.Target, b.Version)}
	case was && b.Version > b.From:
		return api.Runnable{Action: api.RunnableActionRollback,
			Reason: fmt.Sprintf("Redeploys version %d to %s, in place of version %d.", b.Version, b.Stage, b.From)}
	case was:
		return api.Runnable{Action: api.RunnableActionRollback,
			Reason: fmt.Sprintf("Rolls %s back from version %d to version %d.", b.Stage, b.From, b.Version)}
	}
	return api.Runnable{Action: api.RunnableActionDelivery,
		Reason: fmt.Sprintf("Version %d enters %s through its delivery, when its gates have passed.", b.Version, b.Stage)}
}

// blockerWords returns the first blocker, and the number of others.
func blockerWords(stops []string) string {
	if len(stops) == 1 {
		return stops[0]
	}
	return fmt.Sprintf("%s; and %d more", stops[0], len(stops)-1)
}

// few is the maximum number of names in a sentence.
const few = 3

func shorten(names []string) string {
	if len(names) <= few {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:few], ", "), len(names)-few)
}
