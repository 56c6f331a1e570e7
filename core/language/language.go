// Package language says what the manifest language is: which keys stand in each
// kind of file, the forms and limits of their values, units, built-in values,
// and the JSON Schema that follows from them.
//
// A new key begins in New.
package language

import "path"

// Names of the manifest files.
const (
	ServiceFile  = "rudmar.yaml"
	FunctionFile = "function.yaml"
	CasesFolder  = "cases"
)

// MaxFunctions is the most functions that a service may have.
const MaxFunctions = 10_000

// Language holds the definitions of the manifest language: which keys there
// are in each kind of file, what they take, and what they mean.
type Language struct{ Service, Function, Case *Shape }

// Of gives the shape of a file by its name.
func (l *Language) Of(file string) *Shape {
	switch {
	case path.Base(file) == ServiceFile:
		return l.Service
	case path.Base(file) == FunctionFile:
		return l.Function
	}
	return l.Case
}

// Order gives the usual order of the keys of a file, by its name.
func Order(file string) []string {
	switch {
	case path.Base(file) == ServiceFile:
		return []string{"rudmar", "service", "about", "owner", "settings", "secrets", "defaults", "stages"}
	case path.Base(file) == FunctionFile:
		return []string{"function", "about", "was", "code", "runtime", "handler", "memory", "timeout", "at_once",
			"keep_logs", "network", "env", "objectives", "build", "triggers", "permissions", "in"}
	}
	return []string{"case", "send", "expect", "stages", "harmless"}
}

// New gives the language of format 1.
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
	openTo := &Shape{Form: EitherForm, Filled: true, Choices: []string{"anyone", "members"}}

	build := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "run", About: "Commands that make the artifact, one after another, in a clean copy of the code folder.",
			Shape: texts},
		{Name: "leave_out", About: "Patterns of files that do not go into the artifact.", Shape: texts},
		{Name: "network", About: "Whether the commands of run may reach public addresses; fetching from registries needs no leave.", Shape: truth, BuiltIn: "false"},
	}}
	trigger := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "route", About: "A method and a path, with {name} parameters.", Shape: &Shape{Form: RouteForm}},
		{Name: "open_to", About: "Who may call the route: anyone, members, or a list of groups.", Shape: openTo},
		{Name: "cron", About: "Five fields: minute, hour, day of month, month, day of week.", Shape: &Shape{Form: CronForm}},
		{Name: "zone", About: "The time zone of the cron expression.", Shape: &Shape{Form: ZoneForm}, BuiltIn: "UTC"},
		{Name: "every", About: "A fixed interval, from 1m.", Shape: upTo(minute, 366*day)},
		{Name: "objects", About: "The store whose objects call the function.", Shape: template},
		{Name: "on", About: "The events that count: created, changed, deleted for objects (created where nothing is said); succeeded, failed for a function (both).", Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: ChoiceForm, Choices: append(OnWords("objects"), OnWords("function")...)}}},
		{Name: "match", About: "Only objects whose name matches this pattern.", Shape: template},
		{Name: "queue", About: "The queue whose messages call the function.", Shape: template},
		{Name: "batch", About: "Most messages in one call.",
			Shape: &Shape{Form: IntegerForm, Min: 1, Max: 1000}, BuiltIn: "1"},
		{Name: "wait", About: "How long to wait for a batch to fill.", Shape: upTo(0, 5*minute), BuiltIn: "0s"},
		{Name: "function", About: "The function after which this one runs.", Shape: name},
		{Name: "off", About: "Declared, but switched off.", Shape: truth, BuiltIn: "false"},
	}}
	permission := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "may", About: "The verbs, as the target knows them for that kind of resource.",
			Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: VerbForm}}, Required: true},
		{Name: "of", About: "The resource: kind/name, or kind/name/path*.",
			Shape: &Shape{Form: ResourceForm}, Required: true},
	}}
	settled := []Key{
		{Name: "runtime", About: "What runs the code.",
			Shape: &Shape{Form: ChoiceForm, Choices: runtimes()}, BuiltIn: "python"},
		{Name: "memory", About: "The memory limit of one instance, a multiple of 16 MiB.", Shape: memory, BuiltIn: "128 MiB"},
		{Name: "timeout", About: "How long one call may take.", Shape: upTo(0.1, 15*minute), BuiltIn: "10s"},
		{Name: "at_once", About: "Most invocations running at the same time.",
			Shape: &Shape{Form: IntegerForm, Min: 1, Max: 1000}, BuiltIn: "10"},
		{Name: "keep_logs", About: "How long log lines are kept.", Shape: upTo(hour, 3653*day), BuiltIn: "14d"},
		{Name: "network", About: "Whether the function may reach a network; its data it reaches in any case.",
			Shape: truth, BuiltIn: "false"},
		{Name: "env", About: "Environment variables; texts with references.", Shape: env},
		{Name: "objectives", About: "What good means: the judge of a shift and the soak gate hold it to that.",
			Shape: &Shape{Form: ObjectForm, Keys: []Key{
				{Name: "errors_under", About: "The share of calls that may fail.", Shape: &Shape{Form: ShareForm, Min: 0, Max: 1}},
				{Name: "p95_under", About: "How long 95 of 100 warm calls may take at most.", Shape: upTo(0.001, 15*minute)},
				{Name: "over", About: "Over which time.", Shape: upTo(minute, 30*day), BuiltIn: "1h"},
			}}},
		{Name: "build", About: "How the artifact is made, where the runtime's default does not do.", Shape: build},
	}
	perStage := append([]Key{
		{Name: "handler", About: "file:function, without the ending.", Shape: text},
		{Name: "triggers", About: "What calls the function, by name.", Shape: &Shape{Form: MapForm, Of: trigger}},
		{Name: "permissions", About: "What the function may do.", Shape: &Shape{Form: ListForm, Of: permission}},
	}, settled...)

	l := &Language{}
	l.Function = &Shape{Form: ObjectForm, Keys: append([]Key{
		{Name: "function", About: "The function's name.", Shape: name, Required: true},
		{Name: "about", About: "What it is for, in a sentence.", Shape: text},
		{Name: "code", About: "The code folder, relative to this file.", Shape: &Shape{Form: PathForm}, BuiltIn: "."},
		{Name: "was", About: "Its former Name: a rename, not a delete and a create.", Shape: name},
		{Name: "in", About: "What is different in a stage.",
			Shape: &Shape{Form: MapForm, Of: &Shape{Form: ObjectForm, Keys: perStage}}},
	}, withRequired(perStage, "handler")...)}

	gates := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "cases", About: "Saved cases that must pass in the stage before: all, or a list of functions.",
			Shape: &Shape{Form: EitherForm, Filled: true, Choices: []string{"all"}}},
		{Name: "soak", About: "What must hold in the stage before, for how long.",
			Shape: &Shape{Form: ObjectForm, Keys: []Key{
				{Name: "for", About: "How long the version has to run there.", Shape: upTo(0, 90*day)},
				{Name: "calls", About: "How many calls it has to have answered.",
					Shape: &Shape{Form: IntegerForm, Min: 0, Max: 1e9}},
				{Name: "errors_under", About: "The share of errors that is allowed.",
					Shape: &Shape{Form: ShareForm, Min: 0, Max: 1}},
			}}},
		{Name: "approvals", About: "Who has to approve.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "count", About: "How many people.", Shape: &Shape{Form: IntegerForm, Min: 1, Max: 20}, BuiltIn: "1"},
			{Name: "from", About: "The group they belong to.", Shape: name},
			{Name: "author_may", About: "Whether the version's author counts.", Shape: truth, BuiltIn: "false"},
		}}},
		{Name: "window", About: "When the stage may be entered.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "days", About: "Days of the week: mon-thu, or mon,wed.", Shape: text},
			{Name: "hours", About: "Hours of the day: 08:00-15:00.", Shape: text},
			{Name: "zone", About: "The time zone of the hours.", Shape: &Shape{Form: ZoneForm}, BuiltIn: "UTC"},
			{Name: "freezes", About: "A calendar of times in which nothing enters: an .ics file beside rudmar.yaml, or an address that begins with https://.",
				Shape: text},
		}}},
		{Name: "rules", About: "CEL expressions over plan, consequences, version and metrics.",
			Shape: &Shape{Form: MapForm, Of: &Shape{Form: CELForm}}},
	}}
	stage := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "stage", About: "The stage's name.", Shape: name, Required: true},
		{Name: "target", About: "The platform and region it runs on.", Shape: &Shape{Form: TargetForm}},
		{Name: "targets", About: "Several targets.", Shape: &Shape{Form: ListForm, Of: &Shape{Form: TargetForm}}},
		{Name: "together", About: "Several targets are deployed at the same time, not one after the other.", Shape: truth,
			BuiltIn: "false"},
		{Name: "prove_between", About: "Of several targets each has to pass the cases before the next one begins.",
			Shape: truth, BuiltIn: "false"},
		{Name: "set", About: "Values of settings in this stage.", Shape: &Shape{Form: MapForm, Of: &Shape{Form: AnyForm}}},
		{Name: "enter", About: "When a version enters the stage.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "on", About: "push, ready (as soon as the gates hold) or request.",
				Shape: &Shape{Form: ChoiceForm, Choices: []string{"push", "ready", "request"}}, BuiltIn: "request"},
			{Name: "branch", About: "The branch whose pushes are taken.", Shape: text, BuiltIn: "main"},
			{Name: "after", About: "The stage before.", Shape: name},
			{Name: "choice", About: "Who asks for a version may choose functions of it.", Shape: truth, BuiltIn: "false"},
		}}},
		{Name: "gates", About: "What must hold before a version may enter.", Shape: gates},
		{Name: "prove", About: "Which cases run here after a deployment: all, harmless or none. In the last stage harmless where nothing is said, else all.", Shape: &Shape{Form: ChoiceForm, Choices: []string{"all", "harmless", "none"}}},
		{Name: "strict", About: "Wildcards are errors here, not warnings.", Shape: truth, BuiltIn: "false"},
		{Name: "shift", About: "Moving traffic to a new version in shares.", Shape: &Shape{Form: ObjectForm, Keys: []Key{
			{Name: "steps", About: "The shares, rising.",
				Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: ShareForm, Min: 0, Max: 1}}},
			{Name: "every", About: "How long a step lasts.", Shape: upTo(1, 7*day), BuiltIn: "5m"},
		}}},
	}}
	setting := &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "type", About: "number, text, choice or truth.",
			Shape: &Shape{Form: ChoiceForm, Choices: []string{"number", "text", "choice", "truth"}}, Required: true},
		{Name: "default", About: "Its value where a stage sets none.", Shape: &Shape{Form: AnyForm}},
		{Name: "min", About: "The least number.", Shape: &Shape{Form: NumberForm, Min: -1e15, Max: 1e15}},
		{Name: "max", About: "The greatest number.", Shape: &Shape{Form: NumberForm, Min: -1e15, Max: 1e15}},
		{Name: "of", About: "The choices.", Shape: texts},
		{Name: "about", About: "What it is for.", Shape: text},
	}}
	l.Service = &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "rudmar", About: "The format of the manifests: 1.",
			Shape: &Shape{Form: IntegerForm, Min: 1, Max: 1}, Required: true},
		{Name: "service", About: "The service's name.", Shape: name, Required: true},
		{Name: "about", About: "What it is for, in a sentence.", Shape: text},
		{Name: "owner", About: "The group that looks after it.", Shape: name},
		{Name: "settings", About: "Typed values that a stage may set.",
			Shape: &Shape{Form: MapForm, Of: setting, Underscores: true}},
		{Name: "secrets", About: "Names only; values are kept per stage, never in git.",
			Shape: &Shape{Form: ListForm, Of: text}},
		{Name: "defaults", About: "For each function that does not say otherwise.",
			Shape: &Shape{Form: ObjectForm, Keys: settled}},
		{Name: "stages", About: "In the order in which a version moves.",
			Shape: &Shape{Form: ListForm, Of: stage}, Required: true},
	}}
	l.Case = &Shape{Form: ObjectForm, Keys: []Key{
		{Name: "case", About: "What the case shows, in a sentence.", Shape: text, Required: true},
		{Name: "send", About: "What is sent: to a route, to a trigger, or a payload.", Required: true,
			Shape: &Shape{Form: ObjectForm, Keys: []Key{
				{Name: "route", About: "A method and a path.", Shape: text},
				{Name: "query", About: "Query parameters.", Shape: &Shape{Form: MapForm, Of: &Shape{Form: AnyForm}}},
				{Name: "headers", About: "Headers.", Shape: &Shape{Form: MapForm, Of: &Shape{Form: AnyForm}}},
				{Name: "body", About: "The body, as JSON.", Shape: &Shape{Form: AnyForm}},
				{Name: "trigger", About: "One of the function's triggers.", Shape: name},
				{Name: "event", About: "The event's data.", Shape: &Shape{Form: AnyForm}},
				{Name: "payload", About: "What the handler gets as its event.", Shape: &Shape{Form: AnyForm}},
			}}},
		{Name: "expect", About: "CEL expressions that must all be true.", Required: true,
			Shape: &Shape{Form: ListForm, Filled: true, Of: &Shape{Form: CELForm}}},
		{Name: "stages", About: "The stages that it runs in; all where nothing is said.",
			Shape: &Shape{Form: ListForm, Filled: true, Of: name}},
		{Name: "harmless", About: "Whether nothing real happens by it: such cases run in the last stage of the line, too.",
			Shape: truth, BuiltIn: "false"},
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

// OnWords gives the words that on takes for a kind of trigger; none where it
// takes no on.
func OnWords(kind string) []string {
	switch kind {
	case "objects":
		return []string{"created", "changed", "deleted"}
	case "function":
		return []string{"succeeded", "failed"}
	}
	return nil
}

// TriggerKeys gives the keys that a kind of trigger takes beside its own and off.
func TriggerKeys(kind string) []string {
	switch kind {
	case "route":
		return []string{"open_to"}
	case "cron":
		return []string{"zone"}
	case "objects":
		return []string{"on", "match"}
	case "queue":
		return []string{"batch", "wait"}
	case "function":
		return []string{"on"}
	}
	return nil
}
