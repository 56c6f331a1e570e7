package deliver

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"rudmar/core/judge"
	"rudmar/core/manifest"
	"rudmar/core/metrics"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	wire "rudmar/platform/api"
)

// count returns the counts of both revisions since the start of the shift, by function, and by minute.
func (l *StageLine) count(ctx context.Context, d store.Delivery, v store.Shift) ([]judge.Function, []store.ShiftPoint,
	error) {
	sides, err := l.bothSides(ctx, d, v)
	if err != nil {
		return nil, nil, err
	}
	newer, former := map[int64]*metrics.Sum{}, map[int64]*metrics.Sum{}
	took, strata := map[string]map[minutePart]*judge.Minute{}, map[stratum]int{}
	of := map[string]*judge.Function{}
	var out []*judge.Function
	service, _, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return nil, nil, err
	}
	for _, s := range sides {
		if of[s.function] == nil {
			of[s.function] = &judge.Function{Name: s.function,
				Objective: objectiveOf(service, s.function, d.Stage)}
			out = append(out, of[s.function])
		}
	}
	for _, target := range targetsOf(sides) {
		client, scope, err := l.planner.Platform(manifest.Place{Service: d.Service, Stage: d.Stage, Target: target})
		if err != nil {
			return nil, nil, err
		}
		minutes, err := client.Metrics(ctx, scope, v.Begun.Truncate(time.Minute))
		if err != nil {
			return nil, nil, err
		}
		for _, m := range minutes {
			for _, s := range sides {
				if !s.serves(target, m) {
					continue
				}
				sum, isNew := deploy.Sum(m), m.Revision == s.newer
				if !isNew { // of a shift that started before an update
					_, sum = v.Earlier[sumOf(target, m)].Split(sum, m.Minute)
				}
				for part, sum := range partsOf(v, sum, revisionOf(target, m), m.Minute) {
					at := addMinute(took, s.function, m.Minute, part)
					e := addStratum(strata, at, s, m, part)
					total, minutes, durations, calls, errors := &of[s.function].Old, former, at.Old, &e.OldCalls, &e.OldErrors
					if isNew {
						total, minutes, durations, calls, errors = &of[s.function].New, newer, at.New, &e.NewCalls, &e.NewErrors
					}
					total.Add(sum)
					addTo(minutes, m.Minute, sum)
					durations.Add(sum.Durations)
					*calls, *errors = *calls+sum.Invocations, *errors+sum.Errors
				}
			}
		}
	}
	counted := make([]judge.Function, 0, len(out))
	for _, f := range out {
		parts := slices.SortedFunc(maps.Keys(took[f.Name]), func(a, b minutePart) int {
			return cmp.Or(cmp.Compare(a.minute, b.minute), cmp.Compare(a.part, b.part))
		})
		for _, at := range parts {
			f.Minutes = append(f.Minutes, *took[f.Name][at])
		}
		counted = append(counted, *f)
	}
	return counted, pointsOf(newer, former), nil
}

// objectiveOf returns a function's objectives in a version's manifest.
func objectiveOf(service *manifest.Service, function, stage string) judge.Objective {
	fn := service.Function(function)
	if fn == nil {
		return judge.Objective{}
	}
	o := fn.At(stage).Objectives
	return judge.Objective{ErrorsUnder: o.ErrorsUnder, P95Under: o.P95Under}
}

// partsOf divides a minute's sum where steps start, and leaves out what was before the first. The key names the sum.
func partsOf(v store.Shift, sum metrics.Sum, key string, minute int64) map[int]metrics.Sum {
	out, done := map[int]metrics.Sum{}, store.Earlier{Minute: minute}
	for i, split := range v.Splits {
		e, ok := split[key]
		if !ok || e.Minute != minute {
			continue
		}
		before, _ := e.Split(sum, minute)
		if _, part := done.Split(before, minute); i > 0 && part.Invocations > 0 {
			out[i] = part
		}
		done = e
	}
	_, out[len(v.Splits)] = done.Split(sum, minute)
	return out
}

// minutePart is the part of a minute until a step starts; len(Splits) for the last one.
type minutePart struct {
	minute int64
	part   int
}

// addMinute returns the part of a minute of a function, to add to.
func addMinute(took map[string]map[minutePart]*judge.Minute, function string, at int64, part int) *judge.Minute {
	key := minutePart{at, part}
	if took[function] == nil {
		took[function] = map[minutePart]*judge.Minute{}
	}
	if took[function][key] == nil {
		took[function][key] = &judge.Minute{At: at, New: metrics.Histogram{}, Old: metrics.Histogram{}}
	}
	return took[function][key]
}

// stratum is within which the errors of both revisions are compared: a part of a minute of a trigger on a target.
type stratum struct {
	function, trigger string
	target            manifest.Target
	minutePart
}

// addStratum returns the errors of a stratum, to add to.
func addStratum(known map[stratum]int, at *judge.Minute, s side, m wire.MinuteSum, part int) *judge.Errors {
	key := stratum{s.function, m.Trigger, s.target, minutePart{m.Minute, part}}
	i, ok := known[key]
	if !ok {
		i = len(at.Strata)
		known[key] = i
		at.Strata = append(at.Strata, judge.Errors{})
	}
	return &at.Strata[i]
}

// sumOf names a sum of the platform within a minute and a revision, and revisionOf within a minute.
func sumOf(target manifest.Target, m wire.MinuteSum) string {
	return target.String() + " " + m.Function + " " + m.Trigger
}

func revisionOf(target manifest.Target, m wire.MinuteSum) string {
	return sumOf(target, m) + " " + m.Revision
}

func addTo(minutes map[int64]*metrics.Sum, at int64, sum metrics.Sum) {
	if minutes[at] == nil {
		minutes[at] = &metrics.Sum{}
	}
	minutes[at].Add(sum)
}

// shownMinutes is how many minutes of a shift are stored for the page: the newest.
const shownMinutes = 240

func pointsOf(newer, former map[int64]*metrics.Sum) []store.ShiftPoint {
	side := func(s *metrics.Sum) store.PointSide {
		if s == nil {
			return store.PointSide{}
		}
		return store.PointSide{Invocations: s.Invocations, Errors: s.Errors, P95: s.Quantile(0.95)}
	}
	all := map[int64]bool{}
	for at := range newer {
		all[at] = true
	}
	for at := range former {
		all[at] = true
	}
	minutes := slices.Sorted(maps.Keys(all))
	out := []store.ShiftPoint{}
	for _, at := range minutes[max(0, len(minutes)-shownMinutes):] {
		out = append(out, store.ShiftPoint{At: at, New: side(newer[at]), Old: side(former[at])})
	}
	return out
}

// currentMinute returns the sums of both revisions in the present minute so far.
func (l *StageLine) currentMinute(ctx context.Context, d store.Delivery,
	v store.Shift) (map[string]store.Earlier, error) {
	sides, err := l.bothSides(ctx, d, v)
	if err != nil {
		return nil, err
	}
	earlier := map[string]store.Earlier{}
	for _, target := range targetsOf(sides) {
		client, scope, err := l.planner.Platform(manifest.Place{Service: d.Service, Stage: d.Stage, Target: target})
		if err != nil {
			return nil, err
		}
		minute := v.Since.Truncate(time.Minute)
		list, err := client.Metrics(ctx, scope, minute)
		if err != nil {
			return nil, err
		}
		for _, m := range list {
			isSide := func(s side) bool { return s.serves(target, m) }
			if m.Minute == minute.UnixMilli() && slices.ContainsFunc(sides, isSide) {
				earlier[revisionOf(target, m)] = store.Earlier{Minute: m.Minute, Invocations: m.Invocations,
					Errors: m.Errors, Durations: deploy.Sum(m).Durations}
			}
		}
	}
	return earlier, nil
}

func targetsOf(sides []side) []manifest.Target {
	var out []manifest.Target
	for _, s := range sides {
		if !slices.Contains(out, s.target) {
			out = append(out, s.target)
		}
	}
	return out
}
