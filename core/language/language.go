// Package language defines the manifest language: the keys of each kind of file, the formats and
// limits of their values, units, Rudmar defaults, and the JSON Schema derived from them.
//
// To add a key, start in New.
//
// A language can be used concurrently.
package language

import "path"

// Names of the manifest files.
const (
	ServiceFile  = "rudmar.yaml"
	FunctionFile = "function.yaml"
	CasesFolder  = "cases"
)

// MaxFunctions is the maximum number of functions of a service.
const MaxFunctions = 10_000

// Language is the definition of the manifest language: the keys of each kind of file, their values, and their
// meanings.
type Language struct {
	Service, Function, Case *Shape
	former                  map[string][]former // by the former key
}

// Of returns the shape of a file by its name.
func (l *Language) Of(file string) *Shape {
	switch {
	case path.Base(file) == ServiceFile:
		return l.Service
	case path.Base(file) == FunctionFile:
		return l.Function
	}
	return l.Case
}

// Order returns the usual order of the keys of a file, by its name.
func Order(file string) []string {
	switch {
	case path.Base(file) == ServiceFile:
		return []string{"rudmar", "service", "description", "owner", "settings", "secrets", "defaults", "stages"}
	case path.Base(file) == FunctionFile:
		return []string{"function", "description", "renamed_from", "code", "runtime", "handler", "memory", "timeout", "max_concurrency",
			"log_retention", "network", "env", "objectives", "build", "triggers", "permissions", "per_stage"}
	}
	return []string{"case", "send", "expect", "stages", "no_side_effects", "attempts"}
}

// New returns the language of format 1.
func New() *Language {
	text := &Shape{Form: TextForm}
	name := &Shape{Form: NameForm}
	truth := &Shape{Form: BoolForm}
	template := &Shape{Form: TemplateForm}
	memory := &Shape{Form: SizeForm, Min: 64 << 20, Max: 4 << 30, Step: 16 << 20}
	upTo := func(low, high float64) *Shape { return &Shape{Form: TimeForm, Min: low, Max: high} }
	const minute, hour, day = 60, 3600, 86400
	texts := &Shape{Form: ListForm, Of: text}
	env := &Shape{Form: MapForm, Of: template}
	openTo := &Shape{Form: EitherForm, Filled: true, Choices: []string{"anyone", "authenticated"}}

	build := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "run", About: "Commands that build the artifact, in order, in a clean copy of the code folder.",
			Shape: texts},
		{Name: "exclude", About: "Patterns of files to exclude from the artifact.", Shape: texts},
		{Name: "network", About: "Whether build commands can reach public addresses. Registries are always reachable.", Shape: truth, BuiltIn: "false"},
	}}
	trigger := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "route", About: "A method and a path, with {name} parameters.", Shape: &Shape{Form: RouteForm}},
		{Name: "open_to", About: "Who can call the route: anyone, authenticated, or a list of groups.", Shape: openTo},
		{Name: "cron", About: "Five fields: minute, hour, day of month, month, day of week.", Shape: &Shape{Form: CronForm}},
		{Name: "zone", About: "The time zone of the cron expression.", Shape: &Shape{Form: ZoneForm}, BuiltIn: "UTC"},
		{Name: "every", About: "A fixed interval, from 1m.", Shape: upTo(minute, 366*day)},
		{Name: "objects", About: "The object store whose objects invoke the function.", Shape: template},
		{Name: "events", About: "The events that invoke the function: created, changed, deleted for objects (default created); succeeded, failed for after_function (default both).", Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: ChoiceForm, Choices: append(TriggerEvents("objects"), TriggerEvents("after_function")...)}}},
		{Name: "match", About: "Only objects whose name matches this pattern.", Shape: template},
		{Name: "queue", About: "The queue whose messages invoke the function.", Shape: template},
		{Name: "batch_size", About: "The largest number of messages in one invocation.",
			Shape: &Shape{Form: IntegerForm, Min: 1, Max: 1000}, BuiltIn: "1"},
		{Name: "max_wait", About: "The longest wait for a batch to fill.", Shape: upTo(0, 5*minute), BuiltIn: "0s"},
		{Name: "after_function", About: "The function after which this one runs.", Shape: name},
		{Name: "enabled", About: "Whether the trigger is active.", Shape: truth, BuiltIn: "true"},
	}}
	permission := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "allow", About: "The verbs, as the target defines them for that kind of resource.",
			Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: VerbForm}}, Required: true},
		{Name: "resource", About: "The resource: kind/name, or kind/name/path*.",
			Shape: &Shape{Form: ResourceForm}, Required: true},
	}}
	settled := []Key{
		{Name: "runtime", About: "The runtime of the code.",
			Shape: &Shape{Form: ChoiceForm, Choices: Runtimes()}, BuiltIn: "python"},
		{Name: "memory", About: "The memory limit of one instance, a multiple of 16 MiB.", Shape: memory, BuiltIn: "128 MiB"},
		{Name: "timeout", About: "The longest duration of one invocation.", Shape: upTo(0.1, 15*minute), BuiltIn: "10s"},
		{Name: "max_concurrency", About: "The largest number of concurrent invocations.",
			Shape: &Shape{Form: IntegerForm, Min: 1, Max: 1000}, BuiltIn: "10"},
		{Name: "log_retention", About: "The retention of log lines.", Shape: upTo(hour, 3653*day), BuiltIn: "14d"},
		{Name: "network", About: "Whether the function can reach other machines: true for all of them, or to: the hosts and ports. Its data is always reachable.",
			Shape: &Shape{Form: TruthOrForm, Keys: []Key{
				{Name: "to", About: "The only hosts and ports that the function can reach, such as api.example.com:443.", Required: true,
					Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: DestinationForm}}},
			}}, BuiltIn: "false"},
		{Name: "env", About: "Environment variables; strings with references.", Shape: env},
		{Name: "objectives", About: "The definition of good for the function, used by the judge of a traffic shift and by soak gates.",
			Shape: &Shape{Form: ObjectForm, Keys: []Key{
				{Name: "errors_under", About: "The allowed share of failed invocations.", Shape: &Shape{Form: ShareForm, Min: 0, Max: 1}},
				{Name: "p95_under", About: "The allowed p95 of warm invocations.", Shape: upTo(0.001, 15*minute)},
				{Name: "period", About: "The period of measurement.", Shape: upTo(minute, 30*day), BuiltIn: "1h"},
			}}},
		{Name: "build", About: "How to build the artifact, if the runtime's default is not sufficient.", Shape: build},
	}
	perStage := append([]Key{
		{Name: "handler", About: "file:function, without the extension.", Shape: text},
		{Name: "triggers", About: "The triggers of the function, by name.", Shape: &Shape{Form: MapForm, Of: trigger}},
		{Name: "permissions", About: "The permissions of the function.", Shape: &Shape{Form: ListForm, Of: permission}},
	}, settled...)

	l := &Language{former: formerByKey()}
	l.Function = &Shape{Form: ObjectForm, Keys: append([]Key{
		{Name: "function", About: "The function's name.", Shape: name, Required: true},
		{Name: "description", About: "A description in one sentence.", Shape: text},
		{Name: "code", About: "The code folder, relative to this file.", Shape: &Shape{Form: PathForm}, BuiltIn: "."},
		{Name: "renamed_from", About: "The function's former name: a rename instead of a deletion and a creation.", Shape: name},
		{Name: "per_stage", About: "Values that differ in a stage.",
			Shape: &Shape{Form: MapForm, Of: &Shape{Form: ObjectForm, Keys: perStage}}},
	}, withRequired(perStage, "handler")...)}

	gates := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "cases", About: "Cases that must pass in the preceding stage: all, or a list of functions.",
			Shape: &Shape{Form: EitherForm, Filled: true, Choices: []string{"all"}}},
		{Name: "soak", About: "Conditions in the preceding stage, and their duration.",
			Shape: &Shape{Form: ObjectForm, Keys: []Key{
				{Name: "for", About: "The required time of the version in that stage.", Shape: upTo(0, 90*day)},
				{Name: "min_invocations", About: "The required number of invocations.",
					Shape: &Shape{Form: IntegerForm, Min: 0, Max: 1e9}},
				{Name: "errors_under", About: "The allowed share of errors.",
					Shape: &Shape{Form: ShareForm, Min: 0, Max: 1}},
			}}},
		{Name: "approvals", About: "The required approvals.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "count", About: "The number of approvers.", Shape: &Shape{Form: IntegerForm, Min: 1, Max: 20}, BuiltIn: "1"},
			{Name: "from", About: "The group of the approvers.", Shape: name},
			{Name: "allow_pushers", About: "Whether a pusher of the version can approve it.", Shape: truth, BuiltIn: "false"},
		}}},
		{Name: "window", About: "When a version can enter the stage.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "days", About: "Days of the week: mon-thu, or mon,wed.", Shape: text},
			{Name: "hours", About: "Hours of the day: 08:00-15:00.", Shape: text},
			{Name: "zone", About: "The time zone of the hours.", Shape: &Shape{Form: ZoneForm}, BuiltIn: "UTC"},
			{Name: "freezes", About: "A calendar of freezes, during which no version enters: an .ics file beside rudmar.yaml, or an https:// address.",
				Shape: text},
		}}},
		{Name: "rules", About: "CEL expressions over plan, impact, version and metrics.",
			Shape: &Shape{Form: MapForm, Of: &Shape{Form: CELForm}}},
	}}
	stage := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "stage", About: "The stage's name.", Shape: name, Required: true},
		{Name: "target", About: "The platform and region of the stage.", Shape: &Shape{Form: TargetForm}},
		{Name: "targets", About: "Several targets.", Shape: &Shape{Form: ListForm, Of: &Shape{Form: TargetForm}}},
		{Name: "target_order", About: "The order of deployment to several targets: sequential, parallel, or test_each to run the cases on each target before the next one.",
			Shape: &Shape{Form: ChoiceForm, Choices: []string{"sequential", "parallel", "test_each"}}, BuiltIn: "sequential"},
		{Name: "set", About: "Values of settings in this stage.", Shape: &Shape{Form: MapForm, Of: &Shape{Form: AnyForm}}},
		{Name: "enter", About: "When a version enters the stage.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "when", About: "push, ready (when all gates have passed) or request.",
				Shape: &Shape{Form: ChoiceForm, Choices: []string{"push", "ready", "request"}}, BuiltIn: "request"},
			{Name: "branch", About: "The branch whose pushes enter the stage.", Shape: text, BuiltIn: "main"},
			{Name: "after", About: "The stage before.", Shape: name},
			{Name: "allow_partial", About: "Whether a delivery request can select functions of the version.", Shape: truth, BuiltIn: "false"},
		}}},
		{Name: "gates", About: "The conditions for a version to enter.", Shape: gates},
		{Name: "run_cases", About: "The cases that run after a deployment: all, no_side_effects or none (default no_side_effects in the last stage, otherwise all).", Shape: &Shape{Form: ChoiceForm, Choices: []string{"all", "no_side_effects", "none"}}},
		{Name: "wildcards", About: "Whether wildcards in permissions are errors (forbid) or warnings (allow).",
			Shape: &Shape{Form: ChoiceForm, Choices: []string{"allow", "forbid"}}, BuiltIn: "allow"},
		{Name: "shift", About: "A gradual move of traffic to a new version.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "steps", About: "The shares, increasing.",
				Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: ShareForm, Min: 0, Max: 1}}, Required: true},
			{Name: "every", About: "The duration of a step.", Shape: upTo(1, 7*day), BuiltIn: "5m"},
			{Name: "min_invocations", About: "The invocations of a new revision that a step needs.",
				Shape: &Shape{Form: IntegerForm, Min: 1, Max: 1e9}, BuiltIn: "50"},
			{Name: "at_most", About: "The duration of a step without so many invocations.", Shape: upTo(1, 30*day), BuiltIn: "2h"},
		}}},
	}}
	setting := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "type", About: "number, string, enum or boolean.",
			Shape: &Shape{Form: ChoiceForm, Choices: []string{"number", "string", "enum", "boolean"}}, Required: true},
		{Name: "default", About: "The value in stages that set none.", Shape: &Shape{Form: AnyForm}},
		{Name: "min", About: "The smallest number.", Shape: &Shape{Form: NumberForm, Min: -1e15, Max: 1e15}},
		{Name: "max", About: "The largest number.", Shape: &Shape{Form: NumberForm, Min: -1e15, Max: 1e15}},
		{Name: "values", About: "The values of an enum.", Shape: texts},
		{Name: "description", About: "A description of the setting.", Shape: text},
	}}
	l.Service = &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "rudmar", About: "The format of the manifests: 1.",
			Shape: &Shape{Form: IntegerForm, Min: 1, Max: 1}, Required: true},
		{Name: "service", About: "The service's name.", Shape: name, Required: true},
		{Name: "description", About: "A description in one sentence.", Shape: text},
		{Name: "owner", About: "The group that owns the service.", Shape: name},
		{Name: "settings", About: "Typed values that a stage can set.",
			Shape: &Shape{Form: MapForm, Of: setting, Underscores: true}},
		{Name: "secrets", About: "Names only; values are stored per stage, never in git.",
			Shape: &Shape{Form: ListForm, Filled: true, Of: text}},
		{Name: "defaults", About: "Defaults of all functions.",
			Shape: &Shape{Form: ObjectForm, Keys: settled}},
		{Name: "stages", About: "The stages, in the order of delivery.",
			Shape: &Shape{Form: ListForm, Of: stage}, Required: true},
	}}
	l.Case = &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "case", About: "The purpose of the case, in one sentence.", Shape: text, Required: true},
		{Name: "send", About: "The input: to a route, to a trigger, or a payload.", Required: true,
			Shape: &Shape{Form: ObjectForm, Keys: []Key{
				{Name: "route", About: "A method and a path.", Shape: text},
				{Name: "query", About: "Query parameters.", Shape: &Shape{Form: MapForm, Of: &Shape{Form: AnyForm}}},
				{Name: "headers", About: "Headers.", Shape: &Shape{Form: MapForm, Of: &Shape{Form: AnyForm}}},
				{Name: "body", About: "The body, as JSON.", Shape: &Shape{Form: AnyForm}},
				{Name: "trigger", About: "One of the function's triggers.", Shape: name},
				{Name: "event", About: "The event's data.", Shape: &Shape{Form: AnyForm}},
				{Name: "payload", About: "The event that the handler receives.", Shape: &Shape{Form: AnyForm}},
			}}},
		{Name: "expect", About: "CEL expressions that must all be true.", Required: true,
			Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: CELForm}}},
		{Name: "stages", About: "The stages in which the case runs (default all).",
			Shape: &Shape{Form: ListForm, Filled: true, Of: name}},
		{Name: "no_side_effects", About: "Whether the case has no side effects; only such cases run in the last stage.",
			Shape: truth, BuiltIn: "false"},
		{Name: "attempts", About: "How often the case runs at most, until it passes. The result gives the number of attempts.",
			Shape: &Shape{Form: IntegerForm, Min: 1, Max: 5}, BuiltIn: "1"},
	}}
	return l
}

func withRequired(keys []Key, name string) []Key {
	out := append([]Key(nil), keys...)
	for i := range out {
		if out[i].Name == name {
			out[i].Required = true
		}
	}
	return out
}

// TriggerEvents returns the events of a kind of trigger; none if it has no events key.
func TriggerEvents(kind string) []string {
	switch kind {
	case "objects":
		return []string{"created", "changed", "deleted"}
	case "after_function":
		return []string{"succeeded", "failed"}
	}
	return nil
}

// TriggerKeys returns the keys of a kind of trigger besides its own and enabled.
func TriggerKeys(kind string) []string {
	switch kind {
	case "route":
		return []string{"open_to"}
	case "cron":
		return []string{"zone"}
	case "objects":
		return []string{"events", "match"}
	case "queue":
		return []string{"batch_size", "max_wait"}
	case "after_function":
		return []string{"events"}
	}
	return nil
}

// SendWays lists the destinations of a case, of which it has one.
func SendWays() []string { return []string{"route", "trigger", "payload"} }

// SendKeys returns the keys that a case can have besides its destination.
func SendKeys(way string) []string {
	switch way {
	case "route":
		return []string{"query", "headers", "body"}
	case "trigger":
		return []string{"event"}
	}
	return nil
}

// LimitOf returns the type of settings that a key limits; "" for a key of all types.
func LimitOf(key string) string {
	switch key {
	case "min", "max":
		return "number"
	case "values":
		return "enum"
	}
	return ""
}
