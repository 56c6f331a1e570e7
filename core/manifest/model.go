// Package manifest is the model of a service: its stages, settings and functions, each value with
// its origin. It decodes services from trees (DecodeService, DecodeFunction, DecodeCase) and text
// with references (ParseTemplate), and provides the folders that contain services: of a commit, of
// a disk, in an editor.
//
// It assumes valid input: an invalid value decodes as the zero value, and core/check reports the
// reason.
//
// Nothing changes a decoded service, so it can be read concurrently.
package manifest

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/route"
	"rudmar/core/timing"
	"rudmar/core/tree"
)

// Value is a value with its origin.
type Value[T any] struct {
	V    T
	From tree.Origin
}

// Service is a checked service: its own manifest and its functions.
type Service struct {
	Name      string
	About     string
	Owner     Value[string]
	Settings  []Setting
	Secrets   []string
	Stages    []Stage
	Functions []*Function // sorted by name
}

// Function returns the function of a name, or nil.
func (s *Service) Function(name string) *Function {
	for _, f := range s.Functions {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Stage returns the stage of a name, or nil.
func (s *Service) Stage(name string) *Stage {
	for i := range s.Stages {
		if s.Stages[i].Name == name {
			return &s.Stages[i]
		}
	}
	return nil
}

// Setting returns the setting of a name, or nil.
func (s *Service) Setting(name string) *Setting {
	for i := range s.Settings {
		if s.Settings[i].Name == name {
			return &s.Settings[i]
		}
	}
	return nil
}

// Setting is a typed value that a stage can set.
type Setting struct {
	Name    string
	Type    string
	About   string
	Default Value[any] // nil if there is none
	Min     *float64
	Max     *float64
	Values  []string
}

// Target is a platform and a region.
type Target struct{ Platform, Region string }

// String returns the target as it is written; "" for none.
func (t Target) String() string {
	if t == (Target{}) {
		return ""
	}
	return t.Platform + "/" + t.Region
}

// MarshalText returns the target as it is written.
func (t Target) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads a target as it is written.
func (t *Target) UnmarshalText(text []byte) error {
	*t = ParseTarget(string(text))
	return nil
}

// ParseTarget reads a target as it is written.
func ParseTarget(text string) Target {
	platform, region, _ := strings.Cut(text, "/")
	return Target{platform, region}
}

// Place is a stage of a service on one of its targets.
type Place struct {
	Service string `json:"service"`
	Stage   string `json:"stage"`
	Target  Target `json:"target"`
}

// PlaceOf returns a place from its names as they are written.
func PlaceOf(service, stage, target string) Place {
	return Place{Service: service, Stage: stage, Target: ParseTarget(target)}
}

// String returns the place in words.
func (p Place) String() string { return p.Service + " in " + p.Stage + " on " + p.Target.String() }

// How a version enters a stage.
const (
	OnPush    = "push"
	OnReady   = "ready"
	OnRequest = "request"
)

// Stage is one stage of a service.
type Stage struct {
	Name    string
	Targets []Target
	Set     map[string]Value[any]
	When    string // push, ready or request
	Branch  string // if When is push
	After   string
	// ForbidWildcards makes wildcards in permissions errors.
	ForbidWildcards bool
	RunCases        string // all, no_side_effects or none: the cases that run after a deployment
	Gates           Gates
	TargetOrder     string // sequential, parallel or test_each
	// AllowPartial allows delivery requests that select functions of a version.
	AllowPartial bool
	Shift        *Shift
	From         tree.Origin
}

// The orders of deployment to several targets.
const (
	Sequential = "sequential"
	Parallel   = "parallel"
	TestEach   = "test_each"
)

// Parallel reports whether all targets are deployed concurrently.
func (s *Stage) Parallel() bool { return s.TargetOrder == Parallel }

// TestEach reports whether the cases run on each target before the next one is deployed.
func (s *Stage) TestEach() bool { return s.TargetOrder == TestEach }

// Gates are the gates of a stage.
type Gates struct {
	Cases     []string // function names; ["all"] for all; empty for no such gate
	Soak      *Soak
	Approvals *Approvals
	Window    *Window
	Rules     []GateRule
}

// GateRule is one named CEL rule of a gate.
type GateRule struct{ Name, Expression string }

// Soak is the required time, traffic and error rate in the stage before.
type Soak struct {
	For            time.Duration
	MinInvocations int
	ErrorsUnder    float64 // from 0 to 1; 0 if any share is allowed
}

// Approvals describes the required approvals.
type Approvals struct {
	Count        int
	From         string // a group; "" for anybody who can approve
	AllowPushers bool
}

// Window is when a stage can be entered.
type Window struct {
	Days, Hours, Zone string
	// Freezes is a calendar of times without entries: a file or an address.
	Freezes string `json:",omitempty"`
	// Calendar is the calendar of the file; that of an address is read when the gate is evaluated.
	Calendar timing.Calendar `json:"-"`
}

// FreezesAddress returns the address of the calendar of freezes; "" if it is a file.
func (w Window) FreezesAddress() string {
	if strings.Contains(w.Freezes, "://") {
		return w.Freezes
	}
	return ""
}

// Shift is moving traffic in shares.
type Shift struct {
	Steps []float64 // from 0 to 1
	Every time.Duration
	// MinInvocations is how many invocations of a new revision a step needs, and AtMost how long it lasts without them.
	MinInvocations int
	AtMost         time.Duration
}

// Defaults of a traffic shift.
const (
	ShiftEvery          = 5 * time.Minute
	ShiftMinInvocations = 50
	ShiftAtMost         = 2 * time.Hour
)

// Function is one function: its name, its location, and its configuration without stage overlays.
type Function struct {
	Name        string
	About       string
	File        string // of its manifest, relative to the service's folder
	Code        string // the code folder, relative to the service's folder
	RenamedFrom string
	From        tree.Origin
	Cases       []Case

	base  *Config
	stage map[string]*Config
}

// At returns the function's configuration in a stage; "" for none.
func (f *Function) At(stage string) *Config {
	if c, ok := f.stage[stage]; ok {
		return c
	}
	return f.base
}

// HasRoute reports whether a function has a route.
func (c *Config) HasRoute() bool {
	return slices.ContainsFunc(c.Triggers, func(t Trigger) bool { return t.Kind == RouteTrigger })
}

// Network is a function's access to other machines.
type Network struct {
	On bool
	To []string // the only hosts and ports; all if empty
}

// Config is a function's configuration after merging.
type Config struct {
	Runtime        Value[string]
	Handler        Value[string]
	Memory         Value[int64] // bytes
	Timeout        Value[time.Duration]
	MaxConcurrency Value[int64]
	LogRetention   Value[time.Duration]
	Network        Value[Network]
	Env            []EnvVar // sorted by name
	Objectives     Objectives
	Build          Build
	Triggers       []Trigger // sorted by name
	Permissions    []Permission

	Routes []Routed // of the enabled triggers that are routes
}

// Objectives are a function's objectives, zero if none are set.
type Objectives struct {
	ErrorsUnder float64       // from 0 to 1
	P95Under    time.Duration // of warm invocations
	Over        time.Duration
}

// Any reports whether any objective is set.
func (o Objectives) Any() bool { return o.ErrorsUnder > 0 || o.P95Under > 0 }

// Routed is a trigger's route by its key: two routes with the same key can collide.
type Routed struct {
	Key     string
	Trigger int // in Triggers
}

// EnvVar is an environment variable.
type EnvVar struct {
	Name  string
	Value Template
	From  tree.Origin
}

// Build describes how an archive is built.
type Build struct {
	Run, Exclude []string
	Network      bool // the commands of Run can reach public addresses
}

// TriggerKind is the kind of a trigger.
type TriggerKind string

// The kinds of triggers.
const (
	RouteTrigger    TriggerKind = "route"
	CronTrigger     TriggerKind = "cron"
	EveryTrigger    TriggerKind = "every"
	ObjectsTrigger  TriggerKind = "objects"
	QueueTrigger    TriggerKind = "queue"
	FunctionTrigger TriggerKind = "after_function"
)

// TriggerKinds lists the kinds; each is the key that identifies a trigger.
func TriggerKinds() []TriggerKind {
	return []TriggerKind{RouteTrigger, CronTrigger, EveryTrigger, ObjectsTrigger, QueueTrigger, FunctionTrigger}
}

// Trigger is one trigger of a function.
type Trigger struct {
	Name    string
	Kind    TriggerKind
	From    tree.Origin
	Enabled Value[bool]

	Route  Value[route.Route]
	OpenTo Value[[]string] // ["anyone"], ["authenticated"] or groups

	Cron  Value[string]
	Zone  Value[string]
	Every Value[time.Duration]

	Source    Value[Template] // the object store, queue or function
	Events    Value[[]string]
	Match     Value[Template]
	BatchSize Value[int64]
	MaxWait   Value[time.Duration]
}

// Schedule returns when a cron or every trigger fires.
func (t Trigger) Schedule() (timing.Schedule, error) {
	return timing.Read(t.Cron.V, t.Zone.V, t.Every.V)
}

// Permission is a set of verbs of a function on a resource.
type Permission struct {
	Allow    []string
	Resource Template
	From     tree.Origin
}

// Wild reports whether the permission is for everything, in its verbs or its kind
// of resource, or for every resource of a kind.
func (p Permission) Wild() bool {
	of, literal := p.Resource.Literal()
	_, name, _ := strings.Cut(of, "/")
	return slices.Contains(p.Allow, "*") || literal && (of == "*" || name == "*")
}

// Case is a saved invocation with expectations of its response.
type Case struct {
	Name   string
	File   string
	Send   Send
	Expect []Expectation
	// Stages are those that it runs in; all if there are none. NoSideEffects means that it has no effect
	// outside the function.
	Stages        []string
	NoSideEffects bool
	// Attempts is how often it runs at most, until it passes; 0 for once.
	Attempts int
}

// The cases that run in a stage after a deployment.
const (
	RunAll           = "all"
	RunNoSideEffects = "no_side_effects"
	RunNone          = "none"
)

// RunsIn reports whether the case runs in a stage after a deployment.
func (c Case) RunsIn(s *Stage) bool {
	if len(c.Stages) > 0 && !slices.Contains(c.Stages, s.Name) {
		return false
	}
	return s.RunCases == RunAll || s.RunCases == RunNoSideEffects && c.NoSideEffects
}

// Send is the input of a case: to a route, to a trigger, or a payload.
type Send struct {
	Route   string            `json:"route,omitempty"`
	Query   map[string]any    `json:"query,omitempty"` // texts, or lists of them
	Headers map[string]string `json:"headers,omitempty"`
	Body    any               `json:"body,omitempty"`
	Trigger string            `json:"trigger,omitempty"`
	Event   any               `json:"event,omitempty"`
	Payload any               `json:"payload,omitempty"`
}

// Expectation is one expression of a case.
type Expectation struct {
	Text string
	From tree.Origin
}

// Fits returns why a value does not fit the setting, or "" if it does.
func (s *Setting) Fits(v any) string {
	switch s.Type {
	case "number":
		f, ok := v.(float64)
		switch {
		case !ok:
			return fmt.Sprintf("is not a number: %v", v)
		case s.Min != nil && f < *s.Min:
			return fmt.Sprintf("is below its minimum, %v", *s.Min)
		case s.Max != nil && f > *s.Max:
			return fmt.Sprintf("is above its maximum, %v", *s.Max)
		}
	case "enum":
		if !slices.Contains(s.Values, fmt.Sprint(v)) {
			return fmt.Sprintf("is %v, not one of %s", v, strings.Join(s.Values, ", "))
		}
	case "boolean":
		if _, ok := v.(bool); !ok {
			return fmt.Sprintf("is not true or false: %v", v)
		}
	case "string":
		switch v.(type) {
		case map[string]any, []any, nil:
			return "is not a string"
		}
	}
	return ""
}
