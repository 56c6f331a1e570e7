package impact

import (
	"fmt"
	"math"
	"slices"
	"time"

	"rudmar/core/metrics"
	"rudmar/core/resource"
	"rudmar/core/timing"
)

// Figures are the observations of a stage and of the one before it.
type Figures struct {
	Now time.Time
	// Over is the period of the sums.
	Over time.Duration
	// Here and Earlier sum the invocations of each function in the stage, and in the stage before it.
	Here, Earlier map[string]metrics.Sum
	Before        string         // the name of the stage before; "" for none
	Triggers      map[string]int // invocations in the stage, by function/trigger
	Rates         metrics.Rates
	Held          []Retained
}

// Retained is the stored data of a function, which a delete loses.
type Retained struct {
	Function string
	What     string // "log lines", "stored invocations", "waiting messages"
	Count    int64
	Oldest   time.Time // zero if unknown
}

// Outlook is the part of the impact that depends on current figures and the clock. It is not part of an
// approval.
type Outlook struct {
	Over        int64       `json:"period"` // milliseconds, the period of the figures
	Tight       []NearLimit `json:"limits"`
	Schedules   []Fires     `json:"schedules"`
	Costs       []Cost      `json:"costs"`
	Cold        []Waiting   `json:"coldStarts"`
	Losses      []Loss      `json:"dataLoss"`
	Invocations []Activity  `json:"requests"` // by deleted or restricted routes
}

// NearLimit compares a limit with observations.
type NearLimit struct {
	Function    string  `json:"function"`
	What        string  `json:"kind"` // memory, in bytes; timeout, in milliseconds
	Limit       float64 `json:"limit"`
	Seen        float64 `json:"observed"` // the peak memory; the p99 of durations
	Stage       string  `json:"stage,omitempty"`
	Invocations int     `json:"invocations"`
	Under       bool    `json:"under,omitempty"` // the limit is below the observed value
}

// Fires is the change of a schedule.
type Fires struct {
	Function string  `json:"function"`
	Trigger  string  `json:"trigger"`
	Before   float64 `json:"before"` // times per day
	After    float64 `json:"after"`
	Next     []int64 `json:"next"` // Unix milliseconds
	Zone     string  `json:"zone,omitempty"`
	// Overlaps means that a run usually takes longer than the shortest interval.
	Overlaps bool    `json:"overlaps,omitempty"`
	Usually  float64 `json:"usually,omitempty"` // milliseconds, p99
	Interval float64 `json:"interval,omitempty"`
	// Lost and Doubled are times that a change of zone skips, or repeats, today.
	Lost    int `json:"lost,omitempty"`
	Doubled int `json:"doubled,omitempty"`
}

// Cost is the cost of a function's invocations per 30 days.
type Cost struct {
	Function string `json:"function"`
	Before   string `json:"before"` // "" if it does not exist
	After    string `json:"after"`
	Currency string `json:"currency"`
	How      string `json:"arithmetic"`
}

// Waiting is how many callers expectably wait for a cold start.
type Waiting struct {
	Function string  `json:"function"`
	PerHour  float64 `json:"perHour"`
	StartMs  float64 `json:"startMs"` // the longest observed invocation
	Callers  float64 `json:"callers"`
}

// Loss is the data that a delete loses.
type Loss struct {
	Function string `json:"function"`
	What     string `json:"kind"`
	Count    int64  `json:"count"`
	Oldest   int64  `json:"oldest,omitempty"` // Unix milliseconds
}

// Activity is how often a trigger called its function.
type Activity struct {
	Trigger     string `json:"trigger"` // function/trigger
	Invocations int    `json:"invocations"`
}

const (
	month    = 30 * 24 * time.Hour
	fireDays = 28
	// near is the share of a limit beyond which an observed value is reported, though the limit does not
	// change.
	near = 0.9
)

// Forecast evaluates a change against observations.
func Forecast(before, after []Resource, touched map[string]resource.Change, c Impact, seen Figures) Outlook {
	f := &foresight{seen: seen, touched: touched, was: byAddress(before), is: byAddress(after)}
	f.out = Outlook{Over: seen.Over.Milliseconds(), Tight: []NearLimit{}, Schedules: []Fires{}, Costs: []Cost{},
		Cold: []Waiting{}, Losses: []Loss{}, Invocations: []Activity{}}
	var names []string
	for address := range touched {
		names = append(names, resource.FunctionOf(address))
	}
	slices.Sort(names)
	for _, fn := range slices.Compact(names) {
		f.limits(fn)
		f.cost(fn)
		f.lost(fn)
	}
	f.schedules()
	for _, fn := range c.Cold {
		f.cold(fn)
	}
	f.active(c)
	return f.out
}

type foresight struct {
	seen    Figures
	touched map[string]resource.Change
	was, is map[string]*Resource
	out     Outlook
}

func byAddress(resources []Resource) map[string]*Resource {
	out := make(map[string]*Resource, len(resources))
	for i := range resources {
		out[resources[i].Address] = &resources[i]
	}
	return out
}

// number returns an attribute of a resource; 0 if it has none.
func number(r *Resource, name string) float64 {
	if r == nil {
		return 0
	}
	switch n := r.Attributes[name].(type) {
	case float64:
		return n
	case int:
		return float64(n)
	case int64:
		return float64(n)
	}
	return 0
}

// limits compares memory and timeout with past invocations.
func (f *foresight) limits(fn string) {
	was, is := f.was[resource.Function+"/"+fn], f.is[resource.Function+"/"+fn]
	if is == nil {
		return
	}
	for _, what := range []string{"memory", "timeout"} {
		limit := number(is, what)
		if limit == 0 {
			continue
		}
		worst := NearLimit{}
		for _, side := range []struct {
			stage string
			sum   metrics.Sum
		}{{"", f.seen.Here[fn]}, {f.seen.Before, f.seen.Earlier[fn]}} {
			at := float64(side.sum.MemoryPeak)
			if what == "timeout" {
				at = side.sum.Quantile(0.99)
			}
			if at > worst.Seen {
				worst = NearLimit{Function: fn, What: what, Limit: limit, Seen: at, Stage: side.stage,
					Invocations: side.sum.Invocations,
					Under:       limit < at}
			}
		}
		changed := number(was, what) != limit
		if worst.Seen > 0 && (changed && was != nil || worst.Seen > near*limit) {
			f.out.Tight = append(f.out.Tight, worst)
		}
	}
}

// cost adds the cost of a function's invocations before and after: for a changed memory limit, and for a
// created or deleted function.
func (f *foresight) cost(fn string) {
	was, is := number(f.was[resource.Function+"/"+fn], "memory"), number(f.is[resource.Function+"/"+fn], "memory")
	sum, from := f.seen.Here[fn], ""
	if sum.Invocations == 0 {
		sum, from = f.seen.Earlier[fn], f.seen.Before
	}
	if was == is || sum.Invocations == 0 || f.seen.Over <= 0 || f.seen.Rates.Currency == "" {
		return
	}
	scale := float64(month) / float64(f.seen.Over)
	monthly := metrics.Sum{Invocations: int(math.Round(float64(sum.Invocations) * scale)), TotalMs: sum.TotalMs * scale}
	cost := Cost{Function: fn, Currency: f.seen.Rates.Currency}
	for _, side := range []struct {
		memory float64
		into   *string
	}{{was, &cost.Before}, {is, &cost.After}} {
		if side.memory == 0 {
			continue
		}
		amount, how, err := metrics.Cost(monthly, int64(side.memory), f.seen.Rates)
		if err != nil {
			return // an unreadable price gives no cost
		}
		*side.into, cost.How = amount, how
	}
	if from != "" {
		cost.How += ", if invoked as often as in " + from
	}
	f.out.Costs = append(f.out.Costs, cost)
}

// lost lists the data of deleted functions.
func (f *foresight) lost(fn string) {
	for _, h := range f.seen.Held {
		kind := resource.Function
		if h.What == "log lines" {
			kind = resource.Logs
		}
		if h.Function != fn || h.Count == 0 || f.touched[kind+"/"+fn] != resource.Delete {
			continue
		}
		l := Loss{Function: fn, What: h.What, Count: h.Count}
		if !h.Oldest.IsZero() {
			l.Oldest = h.Oldest.UnixMilli()
		}
		f.out.Losses = append(f.out.Losses, l)
	}
}

// cold estimates the number of invocations during a cold start.
func (f *foresight) cold(fn string) {
	sum := f.seen.Here[fn]
	if sum.Invocations == 0 || f.seen.Over <= 0 {
		return
	}
	perMs := float64(sum.Invocations) / float64(f.seen.Over.Milliseconds())
	f.out.Cold = append(f.out.Cold, Waiting{Function: fn, PerHour: perMs * float64(time.Hour.Milliseconds()),
		StartMs: sum.MaxMs, Callers: perMs * sum.MaxMs})
}

// active adds how often the routes were called that close.
func (f *foresight) active(c Impact) {
	for _, closed := range c.Closed {
		if n := f.seen.Triggers[closed.Trigger]; n > 0 {
			f.out.Invocations = append(f.out.Invocations, Activity{Trigger: closed.Trigger, Invocations: n})
		}
	}
}

// scheduleOf reads when a schedule fires; false if it is not there or is off.
func scheduleOf(r *Resource) (timing.Schedule, bool) {
	if r == nil || r.Attributes["enabled"] == false {
		return timing.Schedule{}, false
	}
	cron, _ := r.Attributes["cron"].(string)
	zone, _ := r.Attributes["zone"].(string)
	s, err := timing.Read(cron, zone, time.Duration(number(r, "every"))*time.Millisecond)
	return s, err == nil
}

func (f *foresight) schedules() {
	var addresses []string
	for address := range f.touched {
		if kind, _ := resource.Split(address); kind == resource.Schedule {
			addresses = append(addresses, address)
		}
	}
	slices.Sort(addresses)
	for _, address := range addresses {
		was, wasOn := scheduleOf(f.was[address])
		is, isOn := scheduleOf(f.is[address])
		_, trigger := resource.Split(address)
		out := Fires{Function: resource.FunctionOf(address), Trigger: trigger, Next: []int64{}}
		if wasOn {
			out.Before = f.aDay(was)
		}
		if isOn {
			times := is.Times(f.seen.Now, 60)
			for _, t := range times[:min(3, len(times))] {
				out.Next = append(out.Next, t.UnixMilli())
			}
			out.After = f.aDay(is)
			if is.Zone != nil && is.Cron != nil {
				out.Zone = is.Zone.String()
			}
			f.overlap(&out, times)
		}
		out.Lost, out.Doubled = AcrossZones(was, is, f.seen.Now)
		f.out.Schedules = append(f.out.Schedules, out)
	}
}

// aDay returns the number of times per day of a schedule: over the next day, or over four weeks if it is rare.
func (f *foresight) aDay(s timing.Schedule) float64 {
	if n := s.PerDay(f.seen.Now); n > 24 {
		return float64(n)
	}
	return float64(s.Count(f.seen.Now, f.seen.Now.AddDate(0, 0, fireDays))) / fireDays
}

// overlap adds whether a run usually takes longer than the interval.
func (f *foresight) overlap(out *Fires, times []time.Time) {
	shortest := time.Duration(math.MaxInt64)
	for i := 1; i < len(times); i++ {
		shortest = min(shortest, times[i].Sub(times[i-1]))
	}
	if len(times) < 2 {
		return
	}
	here, earlier := f.seen.Here[out.Function], f.seen.Earlier[out.Function]
	out.Usually = max(here.Quantile(0.99), earlier.Quantile(0.99))
	out.Interval = float64(shortest.Milliseconds())
	out.Overlaps = out.Usually > out.Interval
}

// AcrossZones counts the times that are skipped or repeated when a schedule changes from one zone's clock to
// another's: the same wall clock time has passed in one and not in the other. Without one of the two zones
// there are none.
func AcrossZones(was, is timing.Schedule, now time.Time) (lost, doubled int) {
	if was.Cron == nil || is.Cron == nil || fmt.Sprint(was.Zone) == fmt.Sprint(is.Zone) {
		return 0, 0
	}
	const around = 30 * time.Hour // no two zones are further apart
	clock := func(s timing.Schedule) (past, future map[string]bool) {
		past, future = map[string]bool{}, map[string]bool{}
		for at, ok := s.Next(now.Add(-around)); ok && at.Before(now.Add(around)); at, ok = s.Next(at) {
			shown := at.In(s.Zone).Format("2006-01-02 15:04")
			if at.After(now) {
				future[shown] = true
			} else {
				past[shown] = true
			}
		}
		return past, future
	}
	wasPast, wasFuture := clock(was)
	isPast, isFuture := clock(is)
	for t := range wasFuture {
		if isPast[t] && !isFuture[t] {
			lost++
		}
	}
	for t := range wasPast {
		if isFuture[t] && !wasFuture[t] {
			doubled++
		}
	}
	return lost, doubled
}
