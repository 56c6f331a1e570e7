package manifest

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"rudmar/core/route"
)

// The readers below take values out of nodes that were checked before; what a
// check refused reads as the zero value.

func textOf(n *Node) string {
	if n == nil || n.Kind != Scalar {
		return ""
	}
	return n.Text
}

func value[T any](n *Node, read func(string) T) Value[T] {
	return Value[T]{V: read(textOf(n)), From: n.Origin()}
}

func asText(s string) string { return s }

func asSize(s string) int64 { v, _ := ParseSize(s); return v }

func asTime(s string) time.Duration { v, _ := ParseTime(s); return v }

func asInteger(s string) int64 { v, _ := strconv.ParseInt(s, 10, 64); return v }

func asTruth(s string) bool { return s == "true" }

func asTemplate(s string) Template { t, _ := ParseTemplate(s); return t }

func asRoute(s string) route.Route { r, _ := route.Parse(s); return r }

func textsOf(n *Node) []string {
	if n == nil || n.Kind != Sequence {
		if t := textOf(n); t != "" {
			return []string{t}
		}
		return nil
	}
	out := make([]string, 0, len(n.Items))
	for _, item := range n.Items {
		out = append(out, textOf(item))
	}
	return out
}

// builtIns gives the built-in values as a node, so that they merge like any other.
func builtIns(s *shape) *Node {
	out := &Node{Kind: Mapping, Rule: BuiltIn}
	for _, k := range s.keys {
		if k.builtIn == "" || k.name == "code" {
			continue
		}
		out.Keys = append(out.Keys, &Node{Kind: Scalar, Text: k.name, Rule: BuiltIn})
		out.Items = append(out.Items, &Node{Kind: Scalar, Text: k.builtIn, Rule: BuiltIn})
	}
	return out
}

// decodeConfig reads a function's merged keys. What stands in base's node too
// is taken from base's configuration, which is never changed.
func decodeConfig(n, base *Node, from *Config) *Config {
	c := &Config{
		Runtime:  value(n.Get("runtime"), asText),
		Handler:  value(n.Get("handler"), asText),
		Memory:   value(n.Get("memory"), asSize),
		Timeout:  value(n.Get("timeout"), asTime),
		AtOnce:   value(n.Get("at_once"), asInteger),
		KeepLogs: value(n.Get("keep_logs"), asTime),
		Network:  value(n.Get("network"), asTruth),
		Build:    Build{Run: textsOf(n.Get("build").Get("run")), LeaveOut: textsOf(n.Get("build").Get("leave_out"))},
	}
	if env := n.Get("env"); from != nil && env == base.Get("env") {
		c.Env = from.Env
	} else if env != nil && env.Kind == Mapping {
		c.Env = make([]EnvVar, len(env.Keys))
		for i, k := range env.Keys {
			c.Env[i] = EnvVar{Name: k.Text, Value: asTemplate(textOf(env.Items[i])), From: env.Items[i].Origin()}
		}
		slices.SortFunc(c.Env, func(a, b EnvVar) int { return strings.Compare(a.Name, b.Name) })
	}
	if triggers := n.Get("triggers"); from != nil && triggers == base.Get("triggers") {
		c.Triggers, c.routes = from.Triggers, from.routes
	} else if triggers != nil && triggers.Kind == Mapping {
		c.Triggers = make([]Trigger, len(triggers.Keys))
		for i, k := range triggers.Keys {
			c.Triggers[i].decode(k, triggers.Items[i])
		}
		slices.SortFunc(c.Triggers, func(a, b Trigger) int { return strings.Compare(a.Name, b.Name) })
		for i := range c.Triggers {
			if t := &c.Triggers[i]; t.Kind == RouteTrigger && !t.Off.V && t.Route.V.Method != "" {
				c.routes = append(c.routes, routeAt{routeKey(t.Route.V), i})
			}
		}
	}
	if permissions := n.Get("permissions"); from != nil && permissions == base.Get("permissions") {
		c.Permissions = from.Permissions
	} else if permissions != nil {
		c.Permissions = make([]Permission, len(permissions.Items))
		for i, item := range permissions.Items {
			c.Permissions[i] = Permission{May: textsOf(item.Get("may")), Of: asTemplate(textOf(item.Get("of"))), From: item.Origin()}
		}
	}
	return c
}

func (t *Trigger) decode(key, n *Node) {
	*t = Trigger{
		Name:   key.Text,
		From:   key.Origin(),
		Off:    value(n.Get("off"), asTruth),
		Route:  value(n.Get("route"), asRoute),
		OpenTo: Value[[]string]{V: textsOf(n.Get("open_to")), From: n.Get("open_to").Origin()},
		Cron:   value(n.Get("cron"), asText),
		Zone:   value(n.Get("zone"), asText),
		Every:  value(n.Get("every"), asTime),
		On:     Value[[]string]{V: textsOf(n.Get("on")), From: n.Get("on").Origin()},
		Match:  value(n.Get("match"), asTemplate),
		Batch:  value(n.Get("batch"), asInteger),
		Wait:   value(n.Get("wait"), asTime),
	}
	for _, kind := range triggerKinds() {
		if source := n.Get(string(kind)); source != nil {
			t.Kind = kind
			t.Source = value(source, asTemplate)
			break
		}
	}
	if t.Kind == CronTrigger && t.Zone.V == "" {
		t.Zone = Value[string]{V: "UTC", From: Origin{Rule: BuiltIn}}
	}
}

func decodeService(n *Node) *Service {
	s := &Service{
		Name:    textOf(n.Get("service")),
		About:   textOf(n.Get("about")),
		Owner:   value(n.Get("owner"), asText),
		Secrets: textsOf(n.Get("secrets")),
	}
	if settings := n.Get("settings"); settings != nil && settings.Kind == Mapping {
		for i, k := range settings.Keys {
			s.Settings = append(s.Settings, decodeSetting(k.Text, settings.Items[i]))
		}
	}
	if stages := n.Get("stages"); stages != nil && stages.Kind == Sequence {
		for _, item := range stages.Items {
			if item.Kind == Mapping {
				s.Stages = append(s.Stages, decodeStage(item))
			}
		}
	}
	return s
}

func decodeSetting(name string, n *Node) Setting {
	number := func(key string) *float64 {
		if f, err := strconv.ParseFloat(textOf(n.Get(key)), 64); err == nil {
			return &f
		}
		return nil
	}
	out := Setting{Name: name, Type: textOf(n.Get("type")), About: textOf(n.Get("about")), Min: number("min"), Max: number("max"), Of: textsOf(n.Get("of"))}
	if d := n.Get("default"); d != nil {
		out.Default = Value[any]{V: d.Plain(), From: d.Origin()}
	}
	return out
}

func decodeStage(n *Node) Stage {
	s := Stage{
		Name:   textOf(n.Get("stage")),
		Set:    map[string]Value[any]{},
		On:     textOf(n.Get("enter").Get("on")),
		Branch: textOf(n.Get("enter").Get("branch")),
		After:  textOf(n.Get("enter").Get("after")),
		Strict: asTruth(textOf(n.Get("strict"))),
		From:   n.Origin(),
	}
	if s.On == "" {
		s.On = OnRequest
	}
	if s.On == OnPush && s.Branch == "" {
		s.Branch = "main"
	}
	if t := textOf(n.Get("target")); t != "" {
		s.Targets = append(s.Targets, ParseTarget(t))
	}
	for _, t := range textsOf(n.Get("targets")) {
		s.Targets = append(s.Targets, ParseTarget(t))
	}
	if set := n.Get("set"); set != nil && set.Kind == Mapping {
		for i, k := range set.Keys {
			from := set.Items[i].Origin()
			from.Rule = OfStage
			s.Set[k.Text] = Value[any]{V: set.Items[i].Plain(), From: from}
		}
	}
	s.Gates = decodeGates(n.Get("gates"))
	if shift := n.Get("shift"); shift != nil {
		every := asTime(textOf(shift.Get("every")))
		if every == 0 {
			every = 5 * time.Minute
		}
		s.Shift = &Shift{Every: every}
		for _, step := range textsOf(shift.Get("steps")) {
			if share, err := ParseShare(step); err == nil {
				s.Shift.Steps = append(s.Shift.Steps, share)
			}
		}
	}
	return s
}

func decodeGates(n *Node) Gates {
	g := Gates{Cases: textsOf(n.Get("cases"))}
	if soak := n.Get("soak"); soak != nil {
		under, _ := ParseShare(textOf(soak.Get("errors_under")))
		g.Soak = &Soak{For: asTime(textOf(soak.Get("for"))), Calls: int(asInteger(textOf(soak.Get("calls")))), ErrorsUnder: under}
	}
	if approvals := n.Get("approvals"); approvals != nil {
		g.Approvals = &Approvals{
			Count:     max(1, int(asInteger(textOf(approvals.Get("count"))))),
			From:      textOf(approvals.Get("from")),
			AuthorMay: asTruth(textOf(approvals.Get("author_may"))),
		}
	}
	if window := n.Get("window"); window != nil {
		g.Window = &Window{Days: textOf(window.Get("days")), Hours: textOf(window.Get("hours")), Zone: textOf(window.Get("zone"))}
	}
	if rules := n.Get("rules"); rules != nil && rules.Kind == Mapping {
		for i, k := range rules.Keys {
			g.Rules = append(g.Rules, GateRule{Name: k.Text, Expression: textOf(rules.Items[i])})
		}
	}
	return g
}

func decodeCase(file string, n *Node) Case {
	send := n.Get("send")
	c := Case{Name: textOf(n.Get("case")), File: file, Send: Send{
		Route:   textOf(send.Get("route")),
		Query:   plainTexts(send.Get("query")),
		Headers: plainTexts(send.Get("headers")),
		Body:    send.Get("body").Plain(),
		Trigger: textOf(send.Get("trigger")),
		Event:   send.Get("event").Plain(),
		Payload: send.Get("payload").Plain(),
	}}
	if expect := n.Get("expect"); expect != nil {
		for _, item := range expect.Items {
			c.Expect = append(c.Expect, Expectation{Text: textOf(item), From: item.Origin()})
		}
	}
	return c
}

func plainTexts(n *Node) map[string]string {
	if n == nil || n.Kind != Mapping {
		return nil
	}
	out := map[string]string{}
	for i, k := range n.Keys {
		out[k.Text] = textOf(n.Items[i])
	}
	return out
}
