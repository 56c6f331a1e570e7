package deliver

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"rudmar/core/delivery"
	"rudmar/core/expand"
	"rudmar/core/impact"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/engine/store"
)

// randomStage returns resources with distinct routes and grants, by address.
func randomStage(dice *rand.Rand) map[string]map[string]any {
	out := map[string]map[string]any{}
	for _, fn := range []string{"a", "b", "c"} {
		if dice.IntN(4) == 0 {
			continue
		}
		id := fmt.Sprint("r", dice.IntN(3))
		out["logs/"+fn] = map[string]any{"retention": float64(1000 * (1 + dice.IntN(2)))}
		out["revision/"+fn+"/"+id] = map[string]any{"id": id}
		out["pointer/"+fn] = map[string]any{"shares": map[string]any{id: 1.0}}
		for _, table := range []string{"x", "y"} {
			if dice.IntN(2) == 0 {
				out["grant/"+fn+"/tables/"+table] = map[string]any{"resource": "tables/" + table, "verbs": []any{"read"}}
			}
		}
		if dice.IntN(3) > 0 {
			out["route/"+fn+"/ask"] = map[string]any{"method": "GET", "path": "/" + fn}
			out["opening/"+fn+"/ask"] = map[string]any{"to": []any{[]string{"anyone", "growers", "council"}[dice.IntN(3)]}}
		}
	}
	return out
}

// The variables of rules agree with a comparison of both states, address by address.
func TestVariablesByBruteForce(t *testing.T) {
	dice := rand.New(rand.NewPCG(29, 8))
	var kinds []plan.KindSpec
	for kind, attributes := range map[string][]string{"logs": {"retention"}, "pointer": {"shares"}, "grant": {"verbs", "resource"},
		"route": {"method", "path"}, "opening": {"to"}, "revision": {"id"}} {
		spec := plan.KindSpec{Kind: kind}
		for _, name := range attributes {
			spec.Attributes = append(spec.Attributes, plan.AttributeSpec{Name: name, InPlace: true})
		}
		kinds = append(kinds, spec)
	}
	for range 500 {
		was, is := randomStage(dice), randomStage(dice)
		in := plan.Inputs{Kinds: kinds}
		addresses := func(of map[string]map[string]any) (out []string) {
			for a := range of {
				out = append(out, a)
			}
			slices.Sort(out)
			return out
		}
		for _, a := range addresses(is) {
			kind, fn := resource.Split(a)
			r := expand.Resource{Address: a, Kind: kind, Function: strings.Split(fn, "/")[0]}
			var names []string
			for name := range is[a] {
				names = append(names, name)
			}
			slices.Sort(names)
			for _, name := range names {
				r.Attributes = append(r.Attributes, expand.Attribute{Name: name, Value: is[a][name]})
			}
			in.Wanted = append(in.Wanted, r)
		}
		for _, a := range addresses(was) {
			kind, fn := resource.Split(a)
			in.Record = append(in.Record, plan.Recorded{Address: a, Kind: kind, Function: strings.Split(fn, "/")[0], Attributes: was[a]})
			in.Actual = append(in.Actual, plan.Actual{Address: a, Kind: kind, Attributes: was[a], Tag: "t"})
		}
		in.Rules = []impact.RuleChange{{Rule: "approvals", Loosens: true}, {Rule: "window", Differs: true}}
		got := planned([]*plan.Plan{plan.Compute(in)})

		var creates, updates, deletes, gained, lost, cold, removed, public, wider, closed, functions []string
		fnOf := func(a string) string { return strings.Split(a, "/")[1] }
		for a := range is {
			switch before, there := was[a]; {
			case !there:
				creates = append(creates, a)
			case fmt.Sprint(before) != fmt.Sprint(is[a]):
				updates = append(updates, a)
			}
		}
		for a := range was {
			if is[a] == nil {
				deletes = append(deletes, a)
			}
		}
		changed := slices.Concat(creates, updates, deletes)
		for _, a := range changed {
			if functions = append(functions, fnOf(a)); strings.HasPrefix(a, "pointer/") && is[a] != nil {
				cold = append(cold, fnOf(a))
			}
			_, table, _ := strings.Cut(strings.TrimPrefix(a, "grant/"), "/")
			switch grant := strings.HasPrefix(a, "grant/"); {
			case grant && was[a] == nil:
				gained = append(gained, fnOf(a)+" "+table)
			case grant && is[a] == nil:
				lost = append(lost, fnOf(a)+" "+table)
			case is[a] == nil && (strings.HasPrefix(a, "logs/") || strings.HasPrefix(a, "revision/")):
				removed = append(removed, a)
			}
		}
		to := func(of map[string]map[string]any, fn string) string {
			if o := of["opening/"+fn+"/ask"]; o != nil {
				return o["to"].([]any)[0].(string)
			}
			return ""
		}
		for _, fn := range []string{"a", "b", "c"} {
			before, after := to(was, fn), to(is, fn)
			if before == after {
				continue
			}
			if after != "" && before != "anyone" {
				wider = append(wider, "GET /"+fn)
			}
			if after == "anyone" {
				public = append(public, "GET /"+fn)
			}
			if before != "" && after != "anyone" {
				closed = append(closed, "GET /"+fn)
			}
		}
		for _, c := range []struct {
			name      string
			got, want []string
		}{
			{"plan.steps", got.Plan.Steps, changed}, {"plan.creates", got.Plan.Creates, creates}, {"plan.updates", got.Plan.Updates, updates},
			{"plan.deletes", got.Plan.Deletes, deletes}, {"plan.functions", got.Plan.Functions, functions},
			{"impact.new_permissions", got.Impact.Gained, gained}, {"impact.removed_permissions", got.Impact.Lost, lost},
			{"impact.cold_starts", got.Impact.Cold, cold}, {"impact.data_loss", got.Impact.Removed, removed},
			{"impact.public_routes", got.Impact.Opened, public}, {"impact.wider_routes", got.Impact.Widened, wider},
			{"impact.closed_routes", got.Impact.Closed, closed}, {"impact.weaker_gates", got.Impact.Loosened, []string{"approvals"}},
			{"impact.changed_gates", got.Impact.Changed, []string{"window"}},
		} {
			sorted := func(list []string) []string {
				list = slices.Clone(list)
				slices.Sort(list)
				return slices.Compact(list)
			}
			if g, w := sorted(c.got), sorted(c.want); !slices.Equal(g, w) {
				t.Fatalf("%s: %v, want %v\nbefore %v\nafter %v", c.name, g, w, was, is)
			}
		}
	}
	v := variables(planned(nil), store.Version{Number: 7, Author: "wren", Message: "Less frost", Branch: "main"},
		delivery.Facts{Authors: []string{"sorrel"}, Earlier: map[string]delivery.Earlier{
			"trial": {Metrics: delivery.Metrics{Invocations: 5, Errors: 1}}, "preview": {Metrics: delivery.Metrics{Invocations: 6, Errors: 2}}}})
	if got, want := fmt.Sprint(v.Version, v.Metrics), "{7 wren [sorrel] Less frost main} {11 3}"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}
