package deploy

import (
	"context"
	"time"

	"rudmar/core/impact"
	"rudmar/core/manifest"
	"rudmar/core/metrics"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/platform/api"
)

const (
	// seenOver is the period of observations in plans.
	seenOver = 30 * 24 * time.Hour
	// seenPlaces is the number of places whose observations are cached.
	seenPlaces = 256
	// seenFor is how long observations are cached: a plan does not need the last minute.
	seenFor = time.Minute
	// seeing bounds how long a plan waits for observations; a plan is readable without them.
	seeing = 3 * time.Second
)

// sums are the observations of a place.
type sums struct {
	at        time.Time
	functions map[string]metrics.Sum
	triggers  map[string]int // invocations by function/trigger
}

// observed sums the invocations of a place over seenOver; nil if the platform does not report them.
func (p *Planner) observed(ctx context.Context, place manifest.Place) sums {
	now := p.store.Now()
	known, there := p.sums.Get(place)
	if age := now.Sub(known.at); there && age >= 0 && age < seenFor {
		return known
	}
	out := sums{at: now, functions: map[string]metrics.Sum{}, triggers: map[string]int{}}
	client, scope, err := p.Platform(place)
	if err != nil {
		return out
	}
	ctx, cancel := context.WithTimeout(ctx, seeing)
	defer cancel()
	list, err := client.Sums(ctx, scope, now.Add(-seenOver))
	if err != nil {
		return out // a plan is readable without figures; the stage line reports the unreachable platform
	}
	for _, m := range list {
		sum := out.functions[m.Function]
		sum.Add(Sum(m))
		out.functions[m.Function] = sum
		out.triggers[m.Function+"/"+m.Trigger] += m.Invocations
	}
	p.sums.Add(place, out)
	return out
}

// seen collects the observations of a place, and of the stage before it.
func (p *Planner) seen(ctx context.Context, place manifest.Place, service *manifest.Service,
	in *plan.Inputs) (*impact.Figures, error) {
	client, scope, err := p.Platform(place)
	if err != nil {
		return nil, err
	}
	kinds, err := client.Kinds(ctx)
	if err != nil {
		return nil, err
	}
	here := p.observed(ctx, place)
	out := &impact.Figures{Now: p.store.Now(), Over: seenOver, Here: here.functions, Triggers: here.triggers,
		Earlier: map[string]metrics.Sum{}, Rates: Rates(kinds.Prices)}
	if stage := service.Stage(place.Stage); stage != nil && stage.After != "" {
		out.Before = stage.After
		places, err := p.store.Stages(ctx, place.Service)
		if err != nil {
			return nil, err
		}
		for _, at := range places {
			if at.Stage != stage.After {
				continue
			}
			for fn, sum := range p.observed(ctx, at.Place).functions {
				whole := out.Earlier[fn]
				whole.Add(sum)
				out.Earlier[fn] = whole
			}
		}
	}
	if !deletes(in) {
		return out, nil
	}
	ctx, cancel := context.WithTimeout(ctx, seeing)
	defer cancel()
	held, err := client.Holdings(ctx, scope)
	if err != nil {
		return out, nil //nolint:nilerr // that something is lost is told without how much
	}
	for _, h := range held {
		out.Held = append(out.Held, holding(h))
	}
	return out, nil
}

func holding(h api.Holding) impact.Retained {
	out := impact.Retained{Function: h.Function, What: string(h.What), Count: h.Count}
	if h.Oldest != nil {
		out.Oldest = time.UnixMilli(*h.Oldest)
	}
	return out
}

// deletes reports whether a plan deletes something with data.
func deletes(in *plan.Inputs) bool {
	wanted := make(map[string]bool, len(in.Wanted))
	for i := range in.Wanted {
		wanted[in.Wanted[i].Address] = true
	}
	for _, r := range in.Record {
		if (r.Kind == resource.Logs || r.Kind == resource.Function) && !wanted[r.Address] {
			return true
		}
	}
	return false
}
