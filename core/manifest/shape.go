package manifest

// form is the form of a value.
type form uint8

const (
	formText form = iota + 1
	formName
	formInteger
	formNumber
	formBool
	formSize
	formTime
	formShare
	formChoice
	formTemplate
	formRoute
	formCron
	formZone
	formTarget
	formPath
	formVerb
	formResource
	formCEL
	formAny
	formList
	formMap
	formObject
	formEither // a choice of texts, or a list of names
)

// shape says what may stand in one place of a manifest. The checker and the
// JSON Schema are both made from it.
type shape struct {
	form     form
	choices  []string
	min, max float64 // numbers as they are, sizes in bytes, times in seconds, shares from 0 to 1
	step     float64
	of       *shape // of a list's items and a map's values
	keys     []keyShape
	// underscores tells that the keys of a map may have them, as settings do.
	underscores bool
}

// keyShape is one key of an object.
type keyShape struct {
	name     string
	about    string
	shape    *shape
	required bool
	builtIn  string // the value where nobody says otherwise
}

func (s *shape) key(name string) *keyShape {
	for i := range s.keys {
		if s.keys[i].name == name {
			return &s.keys[i]
		}
	}
	return nil
}

func (s *shape) names() []string {
	out := make([]string, len(s.keys))
	for i, k := range s.keys {
		out[i] = k.name
	}
	return out
}

// Language holds the definitions of the manifest language: which keys there
// are, what they take, and what they mean.
type Language struct {
	service, function, caseFile *shape
	offers                      *Offers
	stage                       string
}

// Runtimes that a manifest may name.
func runtimes() []string { return []string{"python", "node", "go"} }

// NewLanguage gives the language of format 1.
func NewLanguage() *Language {
	text := &shape{form: formText}
	name := &shape{form: formName}
	truth := &shape{form: formBool}
	template := &shape{form: formTemplate}
	memory := &shape{form: formSize, min: 64 << 20, max: 4 << 30, step: 16 << 20}
	upTo := func(low, high float64) *shape { return &shape{form: formTime, min: low, max: high} }
	const minute, hour, day = 60, 3600, 86400
	texts := &shape{form: formList, of: text}
	env := &shape{form: formMap, of: template}
	openTo := &shape{form: formEither, choices: []string{"anyone", "members"}}

	build := &shape{form: formObject, keys: []keyShape{
		{name: "run", about: "Commands that make the artifact, one after another, in a clean copy of the code folder.", shape: texts},
		{name: "leave_out", about: "Patterns of files that do not go into the artifact.", shape: texts},
	}}
	trigger := &shape{form: formObject, keys: []keyShape{
		{name: "route", about: "A method and a path, with {name} parameters.", shape: &shape{form: formRoute}},
		{name: "open_to", about: "Who may call the route: anyone, members, or a list of groups.", shape: openTo},
		{name: "cron", about: "Five fields: minute, hour, day of month, month, day of week.", shape: &shape{form: formCron}},
		{name: "zone", about: "The time zone of the cron expression.", shape: &shape{form: formZone}, builtIn: "UTC"},
		{name: "every", about: "A fixed interval, from 1m.", shape: upTo(minute, 366*day)},
		{name: "objects", about: "The store whose objects call the function.", shape: template},
		{name: "on", about: "The events that count: created, changed, deleted for objects; done, failed for a function.", shape: &shape{form: formList, of: &shape{form: formChoice, choices: []string{"created", "changed", "deleted", "done", "failed"}}}},
		{name: "match", about: "Only objects whose name matches this pattern.", shape: template},
		{name: "queue", about: "The queue whose messages call the function.", shape: template},
		{name: "batch", about: "Most messages in one call.", shape: &shape{form: formInteger, min: 1, max: 1000}, builtIn: "1"},
		{name: "wait", about: "How long to wait for a batch to fill.", shape: upTo(0, 5*minute), builtIn: "0s"},
		{name: "function", about: "The function after which this one runs.", shape: name},
		{name: "off", about: "Declared, but switched off.", shape: truth, builtIn: "false"},
	}}
	permission := &shape{form: formObject, keys: []keyShape{
		{name: "may", about: "The verbs, as the target knows them for that kind of resource.", shape: &shape{form: formList, of: &shape{form: formVerb}}, required: true},
		{name: "of", about: "The resource: kind/name, or kind/name/path*.", shape: &shape{form: formResource}, required: true},
	}}
	settled := []keyShape{
		{name: "runtime", about: "What runs the code.", shape: &shape{form: formChoice, choices: runtimes()}, builtIn: "python"},
		{name: "memory", about: "The memory limit of one instance, a multiple of 16 MiB.", shape: memory, builtIn: "128 MiB"},
		{name: "timeout", about: "How long one call may take.", shape: upTo(0.1, 15*minute), builtIn: "10s"},
		{name: "at_once", about: "Most invocations running at the same time.", shape: &shape{form: formInteger, min: 1, max: 1000}, builtIn: "10"},
		{name: "keep_logs", about: "How long log lines are kept.", shape: upTo(hour, 3653*day), builtIn: "14d"},
		{name: "network", about: "Whether the function may reach a network; its data it reaches in any case.", shape: truth, builtIn: "false"},
		{name: "env", about: "Environment variables; texts with references.", shape: env},
		{name: "build", about: "How the artifact is made, where the runtime's default does not do.", shape: build},
	}
	perStage := append([]keyShape{
		{name: "handler", about: "file:function, without the ending.", shape: text},
		{name: "triggers", about: "What calls the function, by name.", shape: &shape{form: formMap, of: trigger}},
		{name: "permissions", about: "What the function may do.", shape: &shape{form: formList, of: permission}},
	}, settled...)

	l := &Language{}
	l.function = &shape{form: formObject, keys: append([]keyShape{
		{name: "function", about: "The function's name.", shape: name, required: true},
		{name: "about", about: "What it is for, in a sentence.", shape: text},
		{name: "code", about: "The code folder, relative to this file.", shape: &shape{form: formPath}, builtIn: "."},
		{name: "was", about: "Its former name: a rename, not a delete and a create.", shape: name},
		{name: "in", about: "What is different in a stage.", shape: &shape{form: formMap, of: &shape{form: formObject, keys: perStage}}},
	}, withRequired(perStage, "handler")...)}

	gates := &shape{form: formObject, keys: []keyShape{
		{name: "cases", about: "Saved cases that must pass in the stage before: all, or a list of functions.", shape: &shape{form: formEither, choices: []string{"all"}}},
		{name: "soak", about: "What must hold in the stage before, for how long.", shape: &shape{form: formObject, keys: []keyShape{
			{name: "for", about: "How long the version has to run there.", shape: upTo(0, 90*day)},
			{name: "calls", about: "How many calls it has to have answered.", shape: &shape{form: formInteger, min: 0, max: 1e9}},
			{name: "errors_under", about: "The share of errors that is allowed.", shape: &shape{form: formShare, min: 0, max: 1}},
		}}},
		{name: "approvals", about: "Who has to approve.", shape: &shape{form: formObject, keys: []keyShape{
			{name: "count", about: "How many people.", shape: &shape{form: formInteger, min: 1, max: 20}, builtIn: "1"},
			{name: "from", about: "The group they belong to.", shape: name},
			{name: "author_may", about: "Whether the version's author counts.", shape: truth, builtIn: "false"},
		}}},
		{name: "window", about: "When the stage may be entered.", shape: &shape{form: formObject, keys: []keyShape{
			{name: "days", about: "Days of the week: mon-thu, or mon,wed.", shape: text},
			{name: "hours", about: "Hours of the day: 08:00-15:00.", shape: text},
			{name: "zone", about: "The time zone of the hours.", shape: &shape{form: formZone}, builtIn: "UTC"},
		}}},
		{name: "rules", about: "CEL expressions over plan, consequences, version and metrics.", shape: &shape{form: formMap, of: &shape{form: formCEL}}},
	}}
	stage := &shape{form: formObject, keys: []keyShape{
		{name: "stage", about: "The stage's name.", shape: name, required: true},
		{name: "target", about: "The platform and region it runs on.", shape: &shape{form: formTarget}},
		{name: "targets", about: "Several targets.", shape: &shape{form: formList, of: &shape{form: formTarget}}},
		{name: "set", about: "Values of settings in this stage.", shape: &shape{form: formMap, of: &shape{form: formAny}}},
		{name: "enter", about: "When a version enters the stage.", shape: &shape{form: formObject, keys: []keyShape{
			{name: "on", about: "push, ready (as soon as the gates hold) or request.", shape: &shape{form: formChoice, choices: []string{"push", "ready", "request"}}, builtIn: "request"},
			{name: "branch", about: "The branch whose pushes are taken.", shape: text, builtIn: "main"},
			{name: "after", about: "The stage before.", shape: name},
		}}},
		{name: "gates", about: "What must hold before a version may enter.", shape: gates},
		{name: "strict", about: "Wildcards are errors here, not warnings.", shape: truth, builtIn: "false"},
		{name: "shift", about: "Moving traffic to a new version in shares.", shape: &shape{form: formObject, keys: []keyShape{
			{name: "steps", about: "The shares, rising.", shape: &shape{form: formList, of: &shape{form: formShare, min: 0, max: 1}}},
			{name: "every", about: "How long a step lasts.", shape: upTo(1, 7*day), builtIn: "5m"},
		}}},
	}}
	setting := &shape{form: formObject, keys: []keyShape{
		{name: "type", about: "number, text, choice or truth.", shape: &shape{form: formChoice, choices: []string{"number", "text", "choice", "truth"}}, required: true},
		{name: "default", about: "Its value where a stage sets none.", shape: &shape{form: formAny}},
		{name: "min", about: "The least number.", shape: &shape{form: formNumber, min: -1e15, max: 1e15}},
		{name: "max", about: "The greatest number.", shape: &shape{form: formNumber, min: -1e15, max: 1e15}},
		{name: "of", about: "The choices.", shape: texts},
		{name: "about", about: "What it is for.", shape: text},
	}}
	l.service = &shape{form: formObject, keys: []keyShape{
		{name: "rudmar", about: "The format of the manifests: 1.", shape: &shape{form: formInteger, min: 1, max: 1}, required: true},
		{name: "service", about: "The service's name.", shape: name, required: true},
		{name: "about", about: "What it is for, in a sentence.", shape: text},
		{name: "owner", about: "The group that looks after it.", shape: name},
		{name: "settings", about: "Typed values that a stage may set.", shape: &shape{form: formMap, of: setting, underscores: true}},
		{name: "secrets", about: "Names only; values are kept per stage, never in git.", shape: &shape{form: formList, of: text}},
		{name: "defaults", about: "For each function that does not say otherwise.", shape: &shape{form: formObject, keys: settled}},
		{name: "stages", about: "In the order in which a version moves.", shape: &shape{form: formList, of: stage}, required: true},
	}}
	l.caseFile = &shape{form: formObject, keys: []keyShape{
		{name: "case", about: "What the case shows, in a sentence.", shape: text, required: true},
		{name: "send", about: "What is sent: to a route, to a trigger, or a payload.", required: true, shape: &shape{form: formObject, keys: []keyShape{
			{name: "route", about: "A method and a path.", shape: text},
			{name: "query", about: "Query parameters.", shape: &shape{form: formMap, of: &shape{form: formAny}}},
			{name: "headers", about: "Headers.", shape: &shape{form: formMap, of: &shape{form: formAny}}},
			{name: "body", about: "The body, as JSON.", shape: &shape{form: formAny}},
			{name: "trigger", about: "One of the function's triggers.", shape: name},
			{name: "event", about: "The event's data.", shape: &shape{form: formAny}},
			{name: "payload", about: "What the handler gets as its event.", shape: &shape{form: formAny}},
		}}},
		{name: "expect", about: "CEL expressions that must all be true.", required: true, shape: &shape{form: formList, of: &shape{form: formCEL}}},
	}}
	return l
}

func withRequired(keys []keyShape, name string) []keyShape {
	out := append([]keyShape(nil), keys...)
	for i := range out {
		if out[i].name == name {
			out[i].required = true
		}
	}
	return out
}
