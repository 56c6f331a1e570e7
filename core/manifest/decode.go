package manifest

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"rudmar/core/language"
	"rudmar/core/route"
	"rudmar/core/tree"
)

// The readers below take values out of nodes that were checked before; a node with an error reads as the zero
// value.

func value[T any](n *tree.Node, read func(string) T) Value[T] {
	return Value[T]{V: read(n.Value()), From: n.Origin()}
}

func asText(s string) string { return s }

func asSize(s string) int64 { v, _ := language.ParseSize(s); return v }

func asTime(s string) time.Duration { v, _ := language.ParseTime(s); return v }

func asInteger(s string) int64 { v, _ := strconv.ParseInt(s, 10, 64); return v }

func asTruth(s string) bool { return s == "true" }

// asEnabled reads a trigger's enabled, which is true by default.
func asEnabled(s string) bool { return s != "false" }

func asTemplate(s string) Template { t, _ := ParseTemplate(s); return t }

func asRoute(s string) route.Route { r, _ := route.Parse(s); return r }

// builtIns returns the built-in values as a node, so they merge like any other.
func builtIns(s *language.Shape) *tree.Node {
	out := &tree.Node{Kind: tree.Mapping, Rule: tree.BuiltIn}
	for _, k := range s.Keys {
		if k.BuiltIn == "" || k.Name == "code" {
			continue
		}
		out.Keys = append(out.Keys, &tree.Node{Kind: tree.Scalar, Text: k.Name, Rule: tree.BuiltIn})
		out.Items = append(out.Items, &tree.Node{Kind: tree.Scalar, Text: k.BuiltIn, Rule: tree.BuiltIn})
	}
	return out
}

// Shared returns the configuration that all functions share: the built-in values, overlaid by the defaults of
// rudmar.yaml.
func Shared(function *language.Shape, root *tree.Node) *tree.Node {
	return tree.Merge(builtIns(function), root.Get("defaults"))
}

// DecodeFunction decodes a function's file over the shared configuration. It leaves out stages that the service
// does not have. Code outside the service's folder reads as the manifest's own folder.
func DecodeFunction(file string, n, shared *tree.Node, s *Service) *Function {
	fn := &Function{
		Name:        n.Get("function").Value(),
		About:       n.Get("description").Value(),
		File:        file,
		RenamedFrom: n.Get("renamed_from").Value(),
		From:        n.Get("function").Origin(),
	}
	code := n.Get("code").Value()
	fn.Code = path.Join(path.Dir(file), code)
	if Leaves(fn.Code) || strings.HasPrefix(code, "/") {
		fn.Code = path.Dir(file)
	}
	own := tree.Merge(shared, n)
	fn.base = decodeConfig(own, nil, nil)
	if in := n.Get("per_stage"); in != nil && in.Kind == tree.Mapping {
		fn.stage = make(map[string]*Config, len(in.Keys))
		for i, k := range in.Keys {
			if s.Stage(k.Text) != nil {
				fn.stage[k.Text] = decodeConfig(tree.Merge(own, in.Items[i]), own, fn.base)
			}
		}
	}
	return fn
}

// Leaves reports whether a cleaned path leads out of the folder that it is relative to.
func Leaves(name string) bool { return name == ".." || strings.HasPrefix(name, "../") }

// decodeNetwork reads true, false, or the only destinations.
func decodeNetwork(n *tree.Node) Value[Network] {
	out := Value[Network]{From: n.Origin()}
	if n != nil && n.Kind == tree.Mapping {
		out.V.To = n.Get("to").Values()
		out.V.On = len(out.V.To) > 0
		return out
	}
	out.V.On = asTruth(n.Value())
	return out
}

// decodeConfig decodes a function's merged keys. Values that base's node has too are taken from base's
// configuration, which never changes.
func decodeConfig(n, base *tree.Node, from *Config) *Config {
	c := &Config{
		Runtime:        value(n.Get("runtime"), asText),
		Handler:        value(n.Get("handler"), asText),
		Memory:         value(n.Get("memory"), asSize),
		Timeout:        value(n.Get("timeout"), asTime),
		MaxConcurrency: value(n.Get("max_concurrency"), asInteger),
		LogRetention:   value(n.Get("log_retention"), asTime),
		Network:        decodeNetwork(n.Get("network")),
		Build: Build{Run: n.Get("build").Get("run").Values(), Exclude: n.Get("build").Get("exclude").Values(),
			Network: asTruth(n.Get("build").Get("network").Value())},
		Objectives: decodeObjectives(n.Get("objectives")),
	}
	if env := n.Get("env"); from != nil && env == base.Get("env") {
		c.Env = from.Env
	} else if env != nil && env.Kind == tree.Mapping {
		c.Env = make([]EnvVar, len(env.Keys))
		for i, k := range env.Keys {
			c.Env[i] = EnvVar{Name: k.Text, Value: asTemplate(env.Items[i].Value()), From: env.Items[i].Origin()}
		}
		slices.SortFunc(c.Env, func(a, b EnvVar) int { return strings.Compare(a.Name, b.Name) })
	}
	if triggers := n.Get("triggers"); from != nil && triggers == base.Get("triggers") {
		c.Triggers, c.Routes = from.Triggers, from.Routes
	} else if triggers != nil && triggers.Kind == tree.Mapping {
		c.Triggers = make([]Trigger, len(triggers.Keys))
		for i, k := range triggers.Keys {
			c.Triggers[i].decode(k, triggers.Items[i])
		}
		slices.SortFunc(c.Triggers, func(a, b Trigger) int { return strings.Compare(a.Name, b.Name) })
		for i := range c.Triggers {
			if t := &c.Triggers[i]; t.Kind == RouteTrigger && t.Enabled.V && t.Route.V.Method != "" {
				c.Routes = append(c.Routes, Routed{t.Route.V.Key(), i})
			}
		}
	}
	if permissions := n.Get("permissions"); from != nil && permissions == base.Get("permissions") {
		c.Permissions = from.Permissions
	} else if permissions != nil {
		c.Permissions = make([]Permission, len(permissions.Items))
		for i, item := range permissions.Items {
			c.Permissions[i] = Permission{Allow: item.Get("allow").Values(),
				Resource: asTemplate(item.Get("resource").Value()), From: item.Origin()}
		}
	}
	return c
}

func decodeObjectives(n *tree.Node) Objectives {
	if n == nil {
		return Objectives{}
	}
	under, _ := language.ParseShare(n.Get("errors_under").Value()) // none is 0
	o := Objectives{ErrorsUnder: under, P95Under: asTime(n.Get("p95_under").Value()), Over: asTime(n.Get("period").Value())}
	if o.Over == 0 {
		o.Over = time.Hour
	}
	return o
}

func (t *Trigger) decode(key, n *tree.Node) {
	*t = Trigger{
		Name:      key.Text,
		From:      key.Origin(),
		Enabled:   value(n.Get("enabled"), asEnabled),
		Route:     value(n.Get("route"), asRoute),
		OpenTo:    Value[[]string]{V: n.Get("open_to").Values(), From: n.Get("open_to").Origin()},
		Cron:      value(n.Get("cron"), asText),
		Zone:      value(n.Get("zone"), asText),
		Every:     value(n.Get("every"), asTime),
		Events:    Value[[]string]{V: n.Get("events").Values(), From: n.Get("events").Origin()},
		Match:     value(n.Get("match"), asTemplate),
		BatchSize: value(n.Get("batch_size"), asInteger),
		MaxWait:   value(n.Get("max_wait"), asTime),
	}
	for _, kind := range TriggerKinds() {
		if source := n.Get(string(kind)); source != nil {
			t.Kind = kind
			t.Source = value(source, asTemplate)
			break
		}
	}
	if t.Kind == CronTrigger && t.Zone.V == "" {
		t.Zone = Value[string]{V: "UTC", From: tree.Origin{Rule: tree.BuiltIn}}
	}
}

// DecodeService decodes rudmar.yaml; functions are in other files.
func DecodeService(n *tree.Node) *Service {
	s := &Service{
		Name:    n.Get("service").Value(),
		About:   n.Get("description").Value(),
		Owner:   value(n.Get("owner"), asText),
		Secrets: n.Get("secrets").Values(),
	}
	if settings := n.Get("settings"); settings != nil && settings.Kind == tree.Mapping {
		for i, k := range settings.Keys {
			s.Settings = append(s.Settings, decodeSetting(k.Text, settings.Items[i]))
		}
	}
	if stages := n.Get("stages"); stages != nil && stages.Kind == tree.Sequence {
		for _, item := range stages.Items {
			if item.Kind == tree.Mapping {
				s.Stages = append(s.Stages, decodeStage(item))
			}
		}
		for i := range s.Stages { // the last stage serves real callers
			if stage := &s.Stages[i]; stage.RunCases == "" {
				stage.RunCases = RunAll
				if i > 0 && i == len(s.Stages)-1 {
					stage.RunCases = RunNoSideEffects
				}
			}
		}
	}
	return s
}

func decodeSetting(name string, n *tree.Node) Setting {
	number := func(key string) *float64 {
		if f, err := strconv.ParseFloat(n.Get(key).Value(), 64); err == nil {
			return &f
		}
		return nil
	}
	out := Setting{Name: name, Type: n.Get("type").Value(), About: n.Get("description").Value(), Min: number("min"),
		Max: number("max"), Values: n.Get("values").Values()}
	if d := n.Get("default"); d != nil {
		out.Default = Value[any]{V: d.Plain(), From: d.Origin()}
	}
	return out
}

func decodeStage(n *tree.Node) Stage {
	s := Stage{
		Name:            n.Get("stage").Value(),
		Set:             map[string]Value[any]{},
		When:            n.Get("enter").Get("when").Value(),
		Branch:          n.Get("enter").Get("branch").Value(),
		After:           n.Get("enter").Get("after").Value(),
		ForbidWildcards: n.Get("wildcards").Value() == "forbid",
		RunCases:        n.Get("run_cases").Value(),

		TargetOrder:  n.Get("target_order").Value(),
		AllowPartial: asTruth(n.Get("enter").Get("allow_partial").Value()),
		From:         n.Origin(),
	}
	if s.When == "" {
		s.When = OnRequest
	}
	if s.When == OnPush && s.Branch == "" {
		s.Branch = "main"
	}
	if t := n.Get("target").Value(); t != "" {
		s.Targets = append(s.Targets, ParseTarget(t))
	}
	for _, t := range n.Get("targets").Values() {
		s.Targets = append(s.Targets, ParseTarget(t))
	}
	if set := n.Get("set"); set != nil && set.Kind == tree.Mapping {
		for i, k := range set.Keys {
			from := set.Items[i].Origin()
			from.Rule = tree.OfStage
			s.Set[k.Text] = Value[any]{V: set.Items[i].Plain(), From: from}
		}
	}
	s.Gates = decodeGates(n.Get("gates"))
	if shift := n.Get("shift"); shift != nil {
		s.Shift = &Shift{Every: cmp.Or(asTime(shift.Get("every").Value()), ShiftEvery),
			MinInvocations: cmp.Or(int(asInteger(shift.Get("min_invocations").Value())), ShiftMinInvocations),
			AtMost:         cmp.Or(asTime(shift.Get("at_most").Value()), ShiftAtMost)}
		for _, step := range shift.Get("steps").Values() {
			if share, err := language.ParseShare(step); err == nil {
				s.Shift.Steps = append(s.Shift.Steps, share)
			}
		}
	}
	return s
}

func decodeGates(n *tree.Node) Gates {
	g := Gates{Cases: n.Get("cases").Values()}
	if soak := n.Get("soak"); soak != nil {
		under, _ := language.ParseShare(soak.Get("errors_under").Value())
		g.Soak = &Soak{For: asTime(soak.Get("for").Value()),
			MinInvocations: int(asInteger(soak.Get("min_invocations").Value())), ErrorsUnder: under}
	}
	if approvals := n.Get("approvals"); approvals != nil {
		g.Approvals = &Approvals{
			Count:        max(1, int(asInteger(approvals.Get("count").Value()))),
			From:         approvals.Get("from").Value(),
			AllowPushers: asTruth(approvals.Get("allow_pushers").Value()),
		}
	}
	if window := n.Get("window"); window != nil {
		g.Window = &Window{Days: window.Get("days").Value(), Hours: window.Get("hours").Value(),
			Zone: window.Get("zone").Value(), Freezes: window.Get("freezes").Value()}
	}
	if rules := n.Get("rules"); rules != nil && rules.Kind == tree.Mapping {
		for i, k := range rules.Keys {
			g.Rules = append(g.Rules, GateRule{Name: k.Text, Expression: rules.Items[i].Value()})
		}
	}
	return g
}

// DecodeCase reads a saved case out of its file.
func DecodeCase(file string, n *tree.Node) Case {
	send := n.Get("send")
	c := Case{Name: n.Get("case").Value(), File: file, Send: Send{
		Route:   send.Get("route").Value(),
		Query:   query(send.Get("query")),
		Headers: plainTexts(send.Get("headers")),
		Body:    send.Get("body").Plain(),
		Trigger: send.Get("trigger").Value(),
		Event:   send.Get("event").Plain(),
		Payload: send.Get("payload").Plain(),
	}, Stages: n.Get("stages").Values(), NoSideEffects: asTruth(n.Get("no_side_effects").Value()),
		Attempts: int(asInteger(n.Get("attempts").Value()))}
	if expect := n.Get("expect"); expect != nil {
		for _, item := range expect.Items {
			c.Expect = append(c.Expect, Expectation{Text: item.Value(), From: item.Origin()})
		}
	}
	return c
}

// query decodes query parameters: a text each, or a list for a repeated one.
func query(n *tree.Node) map[string]any {
	if n == nil || n.Kind != tree.Mapping {
		return nil
	}
	out := map[string]any{}
	for i, k := range n.Keys {
		item := n.Items[i]
		if item.Kind != tree.Sequence {
			out[k.Text] = item.Value()
			continue
		}
		list := make([]any, len(item.Items))
		for j, one := range item.Items {
			list[j] = one.Value()
		}
		out[k.Text] = list
	}
	return out
}

func plainTexts(n *tree.Node) map[string]string {
	if n == nil || n.Kind != tree.Mapping {
		return nil
	}
	out := map[string]string{}
	for i, k := range n.Keys {
		out[k.Text] = n.Items[i].Value()
	}
	return out
}
