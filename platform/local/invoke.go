package local

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"time"

	"rudmar/core/resource"
	"rudmar/platform/api"
)

// call is one invocation.
type call struct {
	at      member
	event   any
	trigger string // "" for a direct invocation
	sticky  string // identifies the caller, so invocations of one caller stay with one revision
	chain   int    // length of the chain of functions up to here
	purpose string // its purpose, if it is not regular traffic: case or manual
}

func msDuration(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// invoke runs a function once. An error is the platform's own; the function's result is in the invocation.
func (p *Platform) invoke(ctx context.Context, c call) (api.Invocation, error) {
	inv := api.Invocation{Id: "c-" + random(6), Logs: []api.LogLine{}}
	there, err := p.directory.of(ctx, c.at.scope)
	if err != nil {
		return inv, err
	}
	function, ok := there.rows[resource.Function+"/"+c.at.function]
	r, pointed, err := p.choosePointer(ctx, c, there)
	if err != nil {
		return inv, err
	}
	if !ok || !pointed {
		inv.Outcome = api.NotFound
		inv.Error = &api.InvocationError{Kind: "NotFound",
			Message: fmt.Sprintf("function %s in %s has no revision to invoke", c.at.function, c.at.scope)}
		return inv, nil
	}
	inv.Revision, inv.Version = r.id, &r.version
	memory, _ := r.config["memory"].(float64)
	inv.MemoryLimit = int64(memory)
	atOnce, _ := function.attributes["max_concurrency"].(float64)
	if !p.pool.enter(c.at, max(1, int(atOnce))) {
		inv.Outcome = api.Throttled
		inv.Error = &api.InvocationError{Kind: "Throttled",
			Message: fmt.Sprintf("%d invocations of %s are running, the limit of max_concurrency; try again shortly",
				int(atOnce), c.at.function)}
		p.observed.count(c, inv)
		return inv, nil
	}
	defer p.pool.leave(c.at)
	p.run(ctx, c, r, &inv)
	p.observed.count(c, inv)
	p.ended(context.WithoutCancel(ctx), c, inv)
	return inv, nil
}

// choosePointer selects a revision by the pointer's shares: at random, or consistently for an identified
// caller.
func (p *Platform) choosePointer(ctx context.Context, c call, there *listing) (revision, bool, error) {
	at := c.at
	pointer, ok := there.rows[resource.Pointer+"/"+at.function]
	if !ok {
		return revision{}, false, nil
	}
	shares, _ := pointer.attributes["shares"].(map[string]any)
	ids := make([]string, 0, len(shares))
	for id := range shares {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	at100, chosen := rand.Float64()*100, ""
	if c.sticky != "" {
		sum := sha256.Sum256([]byte(at.function + "\x00" + c.sticky))
		at100 = float64(binary.BigEndian.Uint32(sum[:4])) / (1 << 32) * 100
	}
	for _, id := range ids {
		share, _ := shares[id].(float64)
		if chosen = id; at100 < share {
			break
		}
		at100 -= share
	}
	return p.directory.revision(ctx, there, at, chosen)
}

// run runs the invocation on a warm instance, or on a cold one.
func (p *Platform) run(ctx context.Context, c call, r revision, inv *api.Invocation) {
	timeoutMs, _ := r.config["timeout"].(float64)
	timeout := msDuration(timeoutMs)
	k := &keeper{platform: p, call: c, invocation: inv}
	begun := time.Now()
	deadline := begun.Add(timeout) // a cold start counts, too
	in := p.pool.warm(c.at, r.id)
	if in == nil {
		inv.Cold = true
		var err error
		if in, err = p.pool.cold(c.at, r); err != nil {
			p.options.Log.Error("starting an instance", "function", c.at.function, "scope", c.at.scope.String(), "error", err)
			fail(inv, api.Failed, "Platform", "an instance could not be started: "+p.withoutPaths(err.Error()), "")
			return
		}
		k.instance = in.id
		if !p.awaitReady(in, deadline, timeout, k, inv) {
			inv.ColdStartMs = millis(time.Since(begun))
			return
		}
		inv.ColdStartMs = millis(time.Since(begun))
		in.memory.reset()
	}
	k.instance = in.id
	// The invocation continues if the client disconnects: its effects are real.
	ctx, cancel := context.WithDeadline(context.WithoutCancel(ctx), deadline)
	defer cancel()
	in.memory.awaitReset()
	in.output.attach(k.keep)
	begun = time.Now()
	err := in.send(callFrame{c.event, inv.Id, deadline.UnixMilli()}, time.Until(deadline))
	var answer reply
	old := false
	if err == nil {
		answer, err = in.receive(ctx, inv.Id)
		inv.DurationMs = millis(time.Since(begun))
		inv.MemoryPeak, old = in.memory.peak()
		if answer.Peak > 0 {
			inv.MemoryPeak = answer.Peak
		}
		if err != nil {
			p.pool.drop(in)
			select { // its output before it ended
			case <-in.done:
			case <-time.After(2 * killGrace):
			}
		}
	} else {
		p.pool.drop(in)
	}
	in.output.detach()
	if err == nil && old {
		in.memory.resetSoon()
	}
	p.conclude(in, answer, err, timeout, inv)
	k.finish()
	if err == nil {
		// Processes that an invocation started end with it, and the instance with them, because it would have
		// to reap them.
		if in.cage.EndOthers() || answer.Memory || answer.Broken || in.keepsGarbage &&
			in.memory.held() > inv.MemoryLimit*6/10 {
			p.pool.drop(in)
		} else {
			p.pool.give(in)
		}
	}
}

// callFrame is the message to a worker for an invocation.
type callFrame struct {
	Event    any    `json:"event"`
	ID       string `json:"id"`
	Deadline int64  `json:"deadline"`
}

// startLimit is the time limit of a worker for reading its first frame.
const startLimit = 30 * time.Second

// awaitReady waits until the handler is loaded; output of that belongs to the invocation.
func (p *Platform) awaitReady(in *instance, deadline time.Time, timeout time.Duration, k *keeper,
	inv *api.Invocation) bool {
	ctx, cancel := context.WithDeadline(context.Background(), deadline)
	defer cancel()
	in.output.attach(k.keep)
	answer, err := in.receive(ctx, in.id)
	in.output.detach()
	if err == nil && answer.Error == nil {
		in.cage.Rest()
		return true
	}
	inv.MemoryPeak, _ = in.memory.peak()
	p.pool.drop(in)
	p.conclude(in, answer, err, timeout, inv)
	k.finish()
	return false
}

// conclude records the end of an invocation.
func (p *Platform) conclude(in *instance, answer reply, err error, timeout time.Duration, inv *api.Invocation) {
	switch {
	case in.over.Load() || answer.Memory || err != nil && in.cage.Starved():
		fail(inv, api.OutOfMemory, "OutOfMemory",
			fmt.Sprintf("the invocation exceeded its memory limit of %d MiB (peak %d MiB or more); raise memory, or use less at once",
				inv.MemoryLimit>>20, inv.MemoryPeak>>20), "")
	case errors.Is(err, context.DeadlineExceeded):
		fail(inv, api.TimedOut, "TimedOut",
			fmt.Sprintf("the invocation exceeded its timeout of %s and was stopped", timeout), "")
	case errors.Is(err, errGone):
		fail(inv, api.Failed, "ProcessEnded", "the process exited before it responded: "+p.exitText(in), "")
	case err != nil:
		fail(inv, api.Failed, "Answer", err.Error(), "")
	case answer.Error != nil:
		fail(inv, api.Failed, answer.Error.Kind, answer.Error.Message, answer.Error.Trace)
	default:
		inv.Outcome, inv.Response = api.Succeeded, answer.Response
	}
}

func (p *Platform) exitText(in *instance) string {
	select {
	case <-in.done:
		if why := in.cage.Failure(); why != nil {
			return p.withoutPaths(why.Error())
		}
		return in.cage.State().String()
	case <-time.After(time.Second):
		return "without a message"
	}
}

func fail(inv *api.Invocation, outcome api.InvocationOutcome, kind, message, trace string) {
	inv.Outcome = outcome
	inv.Error = &api.InvocationError{Kind: kind, Message: message}
	if trace != "" {
		inv.Error.Trace = &trace
	}
}

// keeper converts an instance's output to log lines of the invocation.
type keeper struct {
	platform   *Platform
	call       call
	invocation *api.Invocation
	instance   string
	bytes      int
	left       int
}

func (k *keeper) keep(o output) {
	if k.bytes += len(o.text) + 1; k.bytes > maxLogBytes {
		k.left += len(o.text) + 1
		return
	}
	k.line(o)
}

func (k *keeper) line(o output) {
	line := k.platform.observed.line(k.call.at, api.LogLine{
		At: o.at.UnixMilli(), Function: k.call.at.function, Revision: k.invocation.Revision,
		Invocation: k.invocation.Id, Instance: k.instance, Stream: api.LogLineStream(o.stream), Text: o.text,
	})
	k.invocation.Logs = append(k.invocation.Logs, line)
}

// finish writes the platform's own line about the call.
func (k *keeper) finish() {
	if k.left > 0 {
		yes := true
		k.invocation.LogsTruncated = &yes
		k.line(output{time.Now(), "platform",
			fmt.Sprintf("%d KiB of output were dropped; an invocation can write %d KiB", k.left>>10, maxLogBytes>>10)})
	}
	if e := k.invocation.Error; e != nil && e.Trace != nil {
		for line := range strings.SplitSeq(strings.TrimRight(*e.Trace, "\n"), "\n") {
			k.line(output{time.Now(), "err", line})
		}
	}
	text := fmt.Sprintf("%s in %.1f ms", k.invocation.Outcome, k.invocation.DurationMs)
	if k.invocation.Cold {
		text += fmt.Sprintf(", after a cold start of %.1f ms", k.invocation.ColdStartMs)
	}
	text += fmt.Sprintf(", memory peak %.1f of %d MiB", float64(k.invocation.MemoryPeak)/(1<<20),
		k.invocation.MemoryLimit>>20)
	if e := k.invocation.Error; e != nil {
		text += ": " + e.Kind + ": " + e.Message
	}
	k.line(output{time.Now(), "platform", text})
}
