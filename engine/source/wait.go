package source

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"time"
)

// WaitOption is the push option (git push -o) by which a push waits for the outcome of it.
const WaitOption = "wait"

// How long a push with WaitOption waits at most, and how long nothing has to happen until it is reported as the
// outcome: gates are judged every two seconds.
const (
	waitFor  = 15 * time.Minute
	restsFor = 5 * time.Second
)

// pushOptions returns the options of the push that a hook runs for, as git tells
// them in the environment (githooks(5)).
func pushOptions() []string {
	n, err := strconv.Atoi(os.Getenv("GIT_PUSH_OPTION_COUNT"))
	if err != nil {
		return nil
	}
	var out []string
	for i := range n {
		out = append(out, os.Getenv("GIT_PUSH_OPTION_"+strconv.Itoa(i)))
	}
	return out
}

// StageStatus is the state of a version in a stage.
type StageStatus struct {
	Stage, State, Reason string
	// Rests means that nothing happens there until another event.
	Rests bool
}

// follow prints the state of a version in its stages as it changes, until nothing more happens automatically.
func (a After) follow(ctx context.Context, b PushOutcome, out io.Writer) {
	told := map[string]StageStatus{}
	tick := time.NewTicker(5 * tellEvery)
	defer tick.Stop()
	still := time.Now()
	for time.Since(still) < restsFor {
		list, err := a.Standing(ctx, b.Service, b.Version)
		if err != nil {
			fmt.Fprintf(out, "Rudmar: the page shows the progress of version %d of %s%s.\n", b.Version, b.Service, a.at("", ""))
			return
		}
		for _, s := range list {
			before := told[s.Stage]
			if told[s.Stage] = s; before != s || !s.Rests {
				still = time.Now()
			}
			if before == s || s.State == "waiting" && s.Reason == "" {
				continue
			}
			how := s.State + because(s.Reason)
			if s.State == "waiting" { // its gate reports it
				how = s.Reason
			}
			fmt.Fprintf(out, "Rudmar:   %s: %s\n", s.Stage, how)
		}
		select {
		case <-ctx.Done():
			fmt.Fprintf(out, "Rudmar: still in progress; following stops here%s\n",
				a.at(b.Service, fmt.Sprintf("/versions/%d", b.Version)))
			return
		case <-tick.C:
		}
	}
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ", " + why
}
