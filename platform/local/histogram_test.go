package local_test

import (
	"strconv"
	"testing"
	"time"

	"rudmar/platform/api"
)

// Calls are counted by duration and errors by kind, and sums of several writes add up.
func TestHistograms(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "import time\ndef run(call):\n    time.sleep(call.event['ms'] / 1000)\n    if call.event['ms'] == 2:\n        raise ValueError('no')\n", map[string]any{"timeout": 4000.0})
	s.call("warn", map[string]any{"ms": 0}) // cold
	for range 3 {
		for range 4 {
			s.call("warn", map[string]any{"ms": 20})
		}
		s.call("warn", map[string]any{"ms": 2})
		s.sums() // reading flushes the memory
	}
	s.call("warn", map[string]any{"ms": 30000}) // times out
	total := s.sums()
	if total.Invocations != 17 || total.Errors != 4 || total.Cold != 1 || total.ErrorKinds["failed"] != 3 ||
		total.ErrorKinds["timed-out"] != 1 {
		t.Errorf("%+v", total)
	}
	count, atLeast20 := 0, 0
	for k, n := range total.FineDurations {
		count += n
		if bucket, err := strconv.Atoi(k); err != nil || bucket >= 150 { // 1.02^149 is 19.1 ms
			atLeast20 += n
		}
	}
	if count != 16 || atLeast20 < 13 {
		t.Errorf("durations: %v", total.FineDurations)
	}
}

// sums adds the minutes of the scope up.
func (s *stand) sums() api.MinuteSum {
	s.Helper()
	minutes, err := s.client.Metrics(s.Context(), s.scope, time.Time{})
	must(s, err)
	out := api.MinuteSum{ErrorKinds: map[string]int{}, FineDurations: map[string]int{}}
	for _, m := range minutes {
		out.Invocations, out.Errors, out.Cold = out.Invocations+m.Invocations, out.Errors+m.Errors, out.Cold+m.Cold
		for k, n := range m.ErrorKinds {
			out.ErrorKinds[k] += n
		}
		for k, n := range m.FineDurations {
			out.FineDurations[k] += n
		}
	}
	return out
}
