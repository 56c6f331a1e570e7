package local

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"
)

// Output between two invocations is logged with the next one; output before a response with its own, also
// without a line end. Output of an idle process is bounded.
func TestOutputBetweenInvocations(t *testing.T) {
	read, write, err := os.Pipe()
	must(t, err)
	defer write.Close()
	o := newOutputs()
	must(t, o.add("out", read))
	say := func(text string) {
		t.Helper()
		if _, err := write.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
	say("before it is followed\n")
	o.detach() // reads it without a follower
	go o.follow()
	came := func(n int) { // bytes since the last call, without the ends of lines
		t.Helper()
		for limit := time.Now().Add(3 * time.Minute); ; time.Sleep(time.Millisecond) { // interval of checks of a condition
			o.mu.Lock()
			there := o.bytes
			o.mu.Unlock()
			if there == n {
				return
			}
			if time.Now().After(limit) {
				t.Fatalf("%d bytes came, not %d", there, n)
			}
		}
	}
	say("between\n")
	came(len("before it is followed") + len("between"))
	var told []string
	call := func(text string) {
		t.Helper()
		told = nil
		o.attach(func(line output) { told = append(told, line.stream+" "+line.text) })
		say(text)
		o.detach()
	}
	if call("in the call\nwithout an end"); !slices.Equal(told, []string{"out before it is followed", "out between", "out in the call",
		"out without an end"}) {
		t.Errorf("told: %q", told)
	}
	if call(""); len(told) > 0 {
		t.Errorf("told again: %q", told)
	}
	long := strings.Repeat("x", 1023) + "\n"
	for range 300 { // KiB, of which 256 are kept
		say(long)
	}
	came(300 * 1023)
	if call("after much\n"); len(told) != maxHeld/1023+1 || told[len(told)-1] != "out after much" {
		t.Errorf("%d lines, the last %q", len(told), told[len(told)-1])
	}
}
