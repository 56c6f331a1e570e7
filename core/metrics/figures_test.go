package metrics_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"rudmar/core/metrics"
)

func TestBuckets(t *testing.T) {
	for _, ms := range []float64{0.01, 0.5, 1, 1.0001, 3, 99.9, 60_000, 900_000} {
		k := metrics.Bucket(ms)
		if high, low := metrics.UpTo(k), metrics.UpTo(k-1); ms > high*1.000001 || ms <= low*0.999999 {
			t.Errorf("%v ms is in the bucket from %v to %v", ms, low, high)
		}
	}
	if metrics.Bucket(0) != metrics.Bucket(0.01) || metrics.Bucket(-1) != metrics.Bucket(0.01) {
		t.Error("no duration has a bucket of its own")
	}
}

// A quantile of a histogram is never below the exact one, and at most 2% above, for any division of the
// durations into histograms.
func TestQuantileAccuracy(t *testing.T) {
	dice := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		n := 1 + dice.IntN(400)
		exact, parts := make([]float64, n), [3]metrics.Histogram{{}, {}, {}}
		for i := range exact {
			exact[i] = math.Exp(dice.NormFloat64()*2 + 2)
			parts[dice.IntN(3)][metrics.Bucket(exact[i])]++
		}
		slices.Sort(exact)
		whole := metrics.Histogram{}
		for _, p := range parts {
			whole.Add(p)
		}
		if whole.Count() != n {
			t.Fatalf("%d calls were counted as %d", n, whole.Count())
		}
		for _, share := range []float64{0.01, 0.5, 0.95, 0.99, 1} {
			want := max(exact[max(0, int(math.Ceil(share*float64(n)))-1)], 0.01)
			if got := whole.Quantile(share); got < want*0.999999 || got > want*1.020001 {
				t.Fatalf("of %d calls, %v took up to %v, not %v", n, share, want, got)
			}
		}
	}
	coarse := metrics.Histogram{}
	coarse.AddCoarse(24, 3) // over 8.95 ms, up to 9.85 ms
	coarse.AddCoarse(24, 1000)
	coarse.AddCoarse(-3, 7)
	if coarse.Count() != 1010 || coarse.Quantile(0.005) > 1 || coarse.Quantile(0.02) < 8.95 || coarse.Quantile(1) > 9.85*1.02 {
		t.Errorf("coarse buckets: %v", coarse)
	}
	if steps := coarse.Steps(); len(steps) < 2 || steps[0].Invocations+steps[1].Invocations != 7 || steps[len(steps)-1].UpTo < 9.85 {
		t.Errorf("in steps: %v", steps)
	}
	for _, ratio := range []float64{1, 1.02, 1.25} {
		n, weighted := 0.0, 0.0
		for k, c := range (metrics.Histogram{metrics.Bucket(100): 10}).Divided(ratio) {
			n, weighted = n+c, weighted+c*math.Log(metrics.UpTo(k))
		}
		if math.Abs(n-10) > 1e-9 || math.Abs(math.Exp(weighted/n)*ratio/metrics.UpTo(metrics.Bucket(100))-1) > 1e-9 {
			t.Errorf("divided by %v: %v of them, at %v", ratio, n, math.Exp(weighted/n))
		}
	}
	if q := (metrics.Histogram{}).Quantile(0.5); q != 0 {
		t.Errorf("no calls took %v", q)
	}
}

func TestSeries(t *testing.T) {
	one := func(at int64, revision string, calls, errors int) metrics.Measured {
		return metrics.Measured{At: at, Revision: revision, Version: len(revision) + int(revision[2]-'0'),
			Sum: metrics.Sum{Invocations: calls, Errors: errors, MaxMs: float64(calls), ErrorKinds: map[string]int{"failed": errors},
				Durations: metrics.Histogram{5: calls}}}
	}
	measured := []metrics.Measured{one(0, "r-1", 9, 0), one(60, "r-1", 1, 1), one(100, "r-2", 2, 0),
		one(119, "r-1", 4, 1), one(240, "r-2", 8, 8), one(300, "r-1", 16, 0)}
	points := metrics.Series(measured, 60, 300, 60)
	var got []int
	for _, p := range points {
		got = append(got, int(p.At), p.Invocations, p.Errors, p.Durations.Count())
	}
	if want := []int{60, 7, 2, 7, 120, 0, 0, 0, 180, 0, 0, 0, 240, 8, 8, 8}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	if none := metrics.Series(measured, 60, 300, 0); none != nil {
		t.Errorf("a width of nothing gives %v", none)
	}
	if odd := metrics.Series(measured, 0, 310, 100); len(odd) != 4 || odd[3].Invocations != 16 {
		t.Errorf("a last step that is cut off: %+v", odd)
	}
	if q := points[0].Quantile(0.95); q != metrics.UpTo(5) || points[1].Quantile(0.95) != 0 {
		t.Errorf("95 of 100 took up to %v", q)
	}
	if longest := (&metrics.Sum{MaxMs: 1.055, Durations: metrics.Histogram{5: 1}}).Quantile(1); longest != 1.055 {
		t.Errorf("the longest call took %v", longest)
	}
	by := metrics.ByRevision(measured)
	if len(by) != 2 || by[0].Revision != "r-1" || by[0].Invocations != 30 || by[1].Invocations != 10 ||
		by[1].ErrorKinds["failed"] != 8 || by[0].MaxMs != 16 || by[0].Version != 4 || by[1].Version != 5 {
		t.Errorf("%+v", by)
	}
}

func TestCost(t *testing.T) {
	rates := metrics.Rates{PerMillionCalls: "0.18", PerGiBSecond: "0.000014", Currency: "EUR"}
	for _, c := range []struct {
		sum       metrics.Sum
		limit     int64
		rates     metrics.Rates
		want, how string
	}{
		{metrics.Sum{Invocations: 2_000_000, TotalMs: 1e9}, 128 << 20, rates, "2.1100",
			"2000000 invocations at 0.18 per million, and 125000.000 GiB-seconds at 0.000014"},
		{metrics.Sum{}, 1 << 30, rates, "0.0000", "0 invocations at 0.18 per million, and 0.000 GiB-seconds at 0.000014"},
		{metrics.Sum{Invocations: 30, TotalMs: 100}, 1 << 30, rates, "under 0.0001",
			"30 invocations at 0.18 per million, and 0.100 GiB-seconds at 0.000014"},
		{metrics.Sum{Invocations: 1_000_000, TotalMs: 5}, 1 << 30, metrics.Rates{PerMillionCalls: "3"}, "3.0000",
			"1000000 invocations at 3 per million, and 0.005 GiB-seconds at nothing"},
	} {
		got, how, err := metrics.Cost(c.sum, c.limit, c.rates)
		if got != c.want || how != c.how || err != nil {
			t.Errorf("%s, %s, %v; want %s, %s", got, how, err, c.want, c.how)
		}
	}
	for _, bad := range []metrics.Rates{{PerMillionCalls: "dear"}, {PerGiBSecond: "1/0"}} {
		if _, _, err := metrics.Cost(metrics.Sum{Invocations: 1}, 1, bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}
