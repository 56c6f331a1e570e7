package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/expression"
	"rudmar/core/manifest"
	"rudmar/core/metrics"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/core/rights"
	"rudmar/core/timing"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
)

// judging is the time limit of all expressions of one evaluation: the rules of a stage's gates, or the
// expectations of a case.
const judging = 500 * time.Millisecond

// planning is the time limit of one computation of plan and impact.
const planning = 10 * time.Second

// GateResults are the gate results of a delivery, with its plan and impact.
type GateResults struct {
	Gates  []delivery.Gate `json:"gates"`
	Impact *Impact         `json:"impact,omitempty"`
	// Stops lists the blockers of its present plan, long before it enters.
	Stops []string `json:"blockers,omitempty"`

	text      string // its stored form; "" if it is not stored
	unplanned bool   // there is no plan to evaluate yet, though there should be
}

// Meaning is the plan and impact of an entry, over all targets. Approvals cover its digest.
type Impact struct {
	Digest string `json:"digest"`
	// Confirm is why the person who lets it enter must type the stage's name; "" if they need not.
	Confirm string   `json:"confirm,omitempty"`
	Lines   []string `json:"facts"`

	plans []*plan.Plan // one per target
	// rules are the variables of rules, as far as the plans determine them.
	rules expression.Rules
}

// Plans returns the plans, one per target; nil if the meaning was stored.
func (m *Impact) Plans() []*plan.Plan {
	if m == nil {
		return nil
	}
	return m.plans
}

// compute computes the present plan and impact of an entry of a version, or of a selection of its functions.
func (l *StageLine) compute(ctx context.Context, service, stage string, version int, choice *delivery.Choice) (*Impact,
	error) {
	targets, err := l.planner.Targets(ctx, service, stage, version)
	if err != nil {
		return nil, err
	}
	m := &Impact{Lines: []string{}}
	var confirm []string
	for _, target := range targets {
		at := manifest.Place{Service: service, Stage: stage, Target: target}
		p, err := l.planner.ComputeChosen(ctx, at, version, choice)
		if err != nil {
			return nil, fmt.Errorf("planning for %s: %w", target, err)
		}
		m.plans = append(m.plans, p)
		m.Lines = append(m.Lines, p.Facts()...)
		if why := p.Confirmation(); why != "" {
			if len(targets) > 1 {
				why = target.String() + ": " + why
			}
			confirm = append(confirm, why)
		}
	}
	slices.Sort(m.Lines)
	m.Confirm = strings.Join(confirm, "; ")
	sum := sha256.Sum256([]byte(strings.Join(m.Lines, "\n")))
	m.Digest = hex.EncodeToString(sum[:])
	m.rules = planned(m.plans)
	return m, nil
}

// ImpactOf returns the present plan and impact of a version in a stage, with its requested functions.
func (l *StageLine) ImpactOf(ctx context.Context, service, stage string, version int) (*Impact, error) {
	choice, err := l.store.Choice(ctx, service, version, stage)
	if err != nil {
		return nil, err
	}
	return l.impact(ctx, service, stage, version, choice)
}

// impact returns the present plan and impact of a selection of a version's functions in a stage; nil for all of
// them. It is computed if an input has changed since the last time: records, actual state, secrets, or standing
// rules.
func (l *StageLine) impact(ctx context.Context, service, stage string, version int, choice *delivery.Choice) (*Impact,
	error) {
	ctx, cancel := context.WithTimeout(ctx, planning)
	defer cancel()
	stamp, err := l.stampOf(ctx, service, stage, version)
	if err != nil {
		return nil, err
	}
	key := impactKey{of: deliveryOf{service, Key{version, stage}}}
	if choice != nil {
		key.choice = fmt.Sprint(choice.Functions, choice.Kept)
	}
	known, ok := l.meanings.Get(key)
	if ok && known.stamp == stamp {
		return known.meaning, nil
	}
	m, err := l.compute(ctx, service, stage, version, choice)
	if err != nil {
		return nil, err
	}
	l.meanings.Add(key, knownImpact{stamp, m})
	return m, nil
}

// stops lists the blockers of a version's plan before its entry, so they can be fixed before anybody approves.
// A place that cannot be planned is reported elsewhere.
func (l *StageLine) stops(ctx context.Context, d store.Delivery) []string {
	m, err := l.ImpactOf(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return nil
	}
	var out []string
	for _, p := range m.Plans() {
		for _, problem := range p.Blockers {
			if !slices.Contains(out, problem.Message) {
				out = append(out, problem.Message)
			}
		}
	}
	return out
}

// impactKey names a meaning: of a delivery, and of which functions.
type impactKey struct {
	of     deliveryOf
	choice string // "" for all
}

type knownImpact struct {
	stamp   string
	meaning *Impact
}

func (l *StageLine) stampOf(ctx context.Context, service, stage string, version int) (string, error) {
	targets, err := l.planner.Targets(ctx, service, stage, version)
	if err != nil {
		return "", err
	}
	standing, err := l.store.Standing(ctx, service)
	if err != nil {
		return "", err
	}
	secrets, err := l.store.Secrets(ctx, service, stage)
	if err != nil {
		return "", err
	}
	parts := []string{fmt.Sprint(standing[stage])}
	for _, s := range secrets {
		parts = append(parts, s.Name, fmt.Sprint(s.At.UnixMilli()))
	}
	for _, target := range targets {
		at := manifest.Place{Service: service, Stage: stage, Target: target}
		stamp, err := l.planner.Stamp(ctx, at)
		if err != nil {
			return "", err
		}
		if stamp == "" {
			stamp = l.store.Now().String() // a platform without tags is read each time
		}
		parts = append(parts, target.String(), stamp)
	}
	return strings.Join(parts, " "), nil
}

// Judge judges the gates that guard a delivery's entry.
func (l *StageLine) Judge(ctx context.Context, d store.Delivery) (GateResults, error) {
	entry, err := l.planner.Entry(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return GateResults{}, err
	}
	facts, meaning, err := l.facts(ctx, d, entry)
	if err != nil {
		return GateResults{}, err
	}
	judge, cancel := context.WithTimeout(ctx, judging)
	defer cancel()
	passed, err := l.store.Overrides(ctx, d)
	if err != nil {
		return GateResults{}, err
	}
	return GateResults{Gates: delivery.ApplyOverrides(delivery.Gates(judge, entry, facts), passed), Impact: meaning,
		unplanned: facts.Unplanned != ""}, nil
}

// facts collects the inputs of a delivery's gates.
func (l *StageLine) facts(ctx context.Context, d store.Delivery, e delivery.Entry) (delivery.Facts, *Impact, error) {
	f := delivery.Facts{Now: l.store.Now(), Requested: d.RequestedBy, NotBefore: d.NotBefore,
		Earlier: map[string]delivery.Earlier{}, Gone: map[string]bool{},
		Calendar: func(address string, zone *time.Location) (timing.Calendar, error) {
			return l.calendar(ctx, address, zone)
		}}
	service, v, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return f, nil, err
	}
	if f.Branch, err = l.branch(ctx, v, e); err != nil {
		return f, nil, err
	}
	arrived, err := l.earlier(ctx, d, service, e, &f)
	if err != nil {
		return f, nil, err
	}
	if e.Own != nil {
		f.Wild = wildcardFunctions(service, d.Stage)
	}
	needs := gateNeedsOf(e)
	if needs.approvals {
		if f.Approvals, err = l.approvals(ctx, d); err != nil {
			return f, nil, err
		}
		if err := l.authorFacts(ctx, d.Service, d.Stage, v.Hash, &f); err != nil {
			return f, nil, err
		}
	}
	if !arrived || !needs.plan {
		return f, nil, nil
	}
	meaning, err := l.ImpactOf(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		f.Unplanned = err.Error()
		return f, nil, nil
	}
	f.Impact, f.Rules = meaning.Lines, variables(meaning.rules, v, f)
	return f, meaning, nil
}

// gateNeeds are the inputs of an entry's gates besides the stages before.
type gateNeeds struct{ approvals, plan bool }

func gateNeedsOf(e delivery.Entry) gateNeeds {
	var w gateNeeds
	for _, s := range e.Rules() {
		w.approvals = w.approvals || s.Gates.Approvals != nil
		w.plan = w.plan || s.Gates.Approvals != nil || len(s.Gates.Rules) > 0 || s.When == manifest.OnRequest
	}
	w.plan = w.plan || e.Removes()
	return w
}

// branch returns the stage's branch, if the version was built from it; otherwise another branch that it was
// built from.
func (l *StageLine) branch(ctx context.Context, v store.Version, e delivery.Entry) (string, error) {
	branches, err := l.store.BranchesOf(ctx, v.Service, v.Number)
	if err != nil {
		return "", err
	}
	for _, s := range e.Rules() {
		if s.When == manifest.OnPush && slices.Contains(branches, s.Branch) {
			return s.Branch, nil
		}
	}
	return v.Branch, nil
}

// earlier collects the state of a version in the stages before, and reports whether it has passed them.
func (l *StageLine) earlier(ctx context.Context, d store.Delivery, own *manifest.Service, e delivery.Entry,
	f *delivery.Facts) (bool, error) {
	standing, err := l.store.Standing(ctx, d.Service)
	if err != nil {
		return false, err
	}
	soak := slices.ContainsFunc(e.Rules(), func(s *manifest.Stage) bool { return s.Gates.Soak != nil })
	stages := map[string]bool{}
	for _, s := range e.Rules() {
		stages[s.After] = s.After != ""
	}
	arrived := true
	for stage, named := range stages {
		if !named {
			continue
		}
		row, err := l.store.Delivery(ctx, d.Service, d.Version, stage)
		if errors.Is(err, store.ErrNotFound) {
			if f.Gone[stage] = own.Stage(stage) == nil && standing[stage] == 0; !f.Gone[stage] {
				arrived = false
			}
			continue
		}
		if err != nil {
			return false, err
		}
		if row.Removes && row.State == delivery.Settled { // this version removed it: there is nothing to wait for
			f.Gone[stage] = true
			continue
		}
		at := delivery.Earlier{State: row.State, Since: row.Since, Removing: row.Removes}
		if row.Choice != nil {
			at.Part = row.Choice.Functions
		}
		arrived = arrived && row.State == delivery.Settled && at.Part == nil
		runs, err := l.store.CaseRuns(ctx, d.Service, d.Version, stage)
		if err != nil {
			return false, err
		}
		for _, r := range runs {
			if r.Running {
				continue
			}
			at.Cases = append(at.Cases, delivery.CaseResult{Function: r.Function, Name: r.Name, Passed: r.Passed})
		}
		if before := own.Stage(stage); soak && row.State == delivery.Settled && before != nil {
			if at.Metrics, err = l.metrics(ctx, own, before, row.Since); err != nil {
				return false, err
			}
		}
		f.Earlier[stage] = at
	}
	return arrived, nil
}

func (l *StageLine) approvals(ctx context.Context, d store.Delivery) ([]delivery.Approval, error) {
	list, err := l.store.Approvals(ctx, d.Service, d.Version, d.Stage)
	if err != nil {
		return nil, err
	}
	var out []delivery.Approval
	for _, a := range list {
		p, err := l.people.Person(ctx, a.Person)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		if May(p, rights.Approve, d.Service, d.Stage) == nil {
			out = append(out, delivery.Approval{Person: a.Person, Groups: p.Groups, Comment: a.Comment, Shown: a.Shown})
		}
	}
	return out, nil
}

// metrics returns the metrics of a stage since a version settled there, and the functions that missed their
// objectives over the objectives' own periods, as far as those have passed.
func (l *StageLine) metrics(ctx context.Context, service *manifest.Service, stage *manifest.Stage,
	since time.Time) (delivery.Metrics, error) {
	var out delivery.Metrics
	now := l.store.Now()
	of := map[string]*metrics.Sum{}
	for _, target := range stage.Targets {
		client, scope, err := l.planner.Platform(manifest.Place{Service: service.Name, Stage: stage.Name, Target: target})
		if err != nil {
			return out, err
		}
		minutes, err := client.Metrics(ctx, scope, since.Truncate(time.Minute))
		if err != nil {
			return out, err
		}
		for _, m := range minutes {
			out.Invocations += m.Invocations
			out.Errors += m.Errors
			fn := service.Function(m.Function)
			if fn == nil || time.UnixMilli(m.Minute).Before(now.Add(-fn.At(stage.Name).Objectives.Over)) {
				continue
			}
			if of[m.Function] == nil {
				of[m.Function] = &metrics.Sum{}
			}
			of[m.Function].Add(deploy.Sum(m))
		}
	}
	for _, fn := range service.Functions {
		if sum := of[fn.Name]; sum != nil {
			if missed := delivery.Missed(fn.At(stage.Name).Objectives, *sum); missed != "" {
				out.Missed = append(out.Missed, fn.Name+" misses its objective: "+missed)
			}
		}
	}
	return out, nil
}

// wildcardFunctions lists the functions with wildcard permissions (*) in a stage.
func wildcardFunctions(service *manifest.Service, stage string) []string {
	var out []string
	for _, fn := range service.Functions {
		if slices.ContainsFunc(fn.At(stage).Permissions, manifest.Permission.Wild) {
			out = append(out, fn.Name)
		}
	}
	return out
}

// variables returns the variables of rules.
func variables(r expression.Rules, v store.Version, facts delivery.Facts) *expression.Rules {
	r.Version = expression.Version{Number: int64(v.Number), Author: v.Author, Pushers: facts.Authors,
		Message: v.Message, Branch: v.Branch}
	for _, at := range facts.Earlier {
		r.Metrics.Invocations, r.Metrics.Errors = r.Metrics.Invocations+int64(at.Invocations),
			r.Metrics.Errors+int64(at.Errors)
	}
	return &r
}

// planned returns the variables of rules about plans and impact.
func planned(plans []*plan.Plan) expression.Rules {
	var r expression.Rules
	seen := map[string]bool{}
	for _, p := range plans {
		addSteps(&r.Plan, p)
		for _, fn := range p.Functions() {
			if !seen[fn] {
				seen[fn] = true
				r.Plan.Functions = append(r.Plan.Functions, fn)
			}
		}
		c := p.Impact
		for _, o := range c.Opened {
			r.Impact.Widened = append(r.Impact.Widened, o.Route)
			if o.Public {
				r.Impact.Opened = append(r.Impact.Opened, o.Route)
			}
		}
		for _, o := range c.Closed {
			r.Impact.Closed = append(r.Impact.Closed, o.Route)
		}
		for _, m := range c.Moved {
			r.Impact.Moved = append(r.Impact.Moved, m.Request)
		}
		for _, t := range c.Through {
			for _, what := range t.May {
				r.Impact.Through = append(r.Impact.Through, t.Function+" "+what)
			}
		}
		for _, g := range c.Gained {
			r.Impact.Gained = append(r.Impact.Gained, g.Function+" "+g.Resource)
		}
		for _, g := range c.Lost {
			r.Impact.Lost = append(r.Impact.Lost, g.Function+" "+g.Resource)
		}
		for _, rule := range c.Rules {
			if rule.Loosens {
				r.Impact.Loosened = append(r.Impact.Loosened, rule.Rule)
			}
			if rule.Differs {
				r.Impact.Changed = append(r.Impact.Changed, rule.Rule)
			}
		}
		r.Impact.Removed = append(r.Impact.Removed, c.Removed...)
		r.Impact.Cold = append(r.Impact.Cold, c.Cold...)
	}
	return r
}

func addSteps(to *expression.Plan, p *plan.Plan) {
	for _, s := range p.Steps {
		to.Steps = append(to.Steps, s.Address)
		switch s.Change {
		case resource.Create, resource.Adopt:
			to.Creates = append(to.Creates, s.Address)
		case resource.Delete:
			to.Deletes = append(to.Deletes, s.Address)
		default:
			to.Updates = append(to.Updates, s.Address)
		}
	}
}

// keep stores a delivery's gate results, with the time since which each applies; it notifies pages of changes.
func (l *StageLine) keep(ctx context.Context, d store.Delivery, judged GateResults, before *GateResults) error {
	now := l.store.Now().UnixMilli()
	for i := range judged.Gates {
		g := &judged.Gates[i]
		g.Since = now
		if before == nil {
			continue
		}
		for _, old := range before.Gates {
			if old.Kind == g.Kind && old.Name == g.Name && old.State == g.State {
				g.Since = old.Since
			}
		}
	}
	text, err := json.Marshal(judged)
	if err != nil {
		return err
	}
	if before != nil && before.text == string(text) {
		return nil
	}
	return l.store.PutGateResults(ctx, d.Service,
		store.GateResults{Version: d.Version, Stage: d.Stage, Body: string(text)})
}

// Key names a version's delivery in a stage.
type Key struct {
	Version int
	Stage   string
}

// GateResults returns the stored gate results of a service's deliveries: of the waiting ones, or of one
// version. It evaluates nothing.
func (l *StageLine) GateResults(ctx context.Context, service string, version int) (map[Key]GateResults, error) {
	return ReadGateResults(ctx, l.store, service, version)
}

// ReadGateResults is Line.GateResults for callers without a line, such as git's hooks.
func ReadGateResults(ctx context.Context, s *store.Store, service string, version int) (map[Key]GateResults, error) {
	rows, err := s.GateResults(ctx, service, version)
	out := map[Key]GateResults{}
	for _, r := range rows {
		var j GateResults
		if err := json.Unmarshal([]byte(r.Body), &j); err != nil {
			return nil, fmt.Errorf("reading the gate results of version %d in %s: %w", r.Version, r.Stage, err)
		}
		j.text = r.Body
		out[Key{r.Version, r.Stage}] = j
	}
	return out, err
}
