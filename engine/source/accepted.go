package source

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
)

// PushOutcome is the outcome of a push to a branch, as far as it is known.
type PushOutcome struct {
	Service string
	// Version is the built version; 0 if it is not built yet, or if the build failed, for the reason in Reason.
	Version int
	Reason  string
	Stages  []string // the stages of the version
	Leaves  []string // the stages that it removes
}

// destination returns the stages of the version, and those that it removes.
func (b PushOutcome) destination() string {
	var parts []string
	if len(b.Stages) > 0 {
		parts = append(parts, "entering "+strings.Join(b.Stages, ", then "))
	}
	if len(b.Leaves) > 0 {
		parts = append(parts, "deleting "+strings.Join(b.Leaves, ", then "))
	}
	return strings.Join(parts, ", and ")
}

// After has the dependencies of the output after a push.
type After struct {
	// Found returns the result of a move of a branch, whether the move is recorded, and whether the result is final.
	Found func(ctx context.Context, branch string, m Move) (list []PushOutcome, noted, done bool, err error)
	// Standing returns the state of a version in its stages, in their order.
	Standing func(ctx context.Context, service string, version int) ([]StageStatus, error)
	// Page is the address of Rudmar's page, "" if unknown.
	Page string
}

// Time limits of the output after a push: it does not wait for a long build.
const (
	tellFor   = 20 * time.Second
	tellEvery = 50 * time.Millisecond
)

// PostReceive is git's hook after it accepted a push: it prints the version of each branch, its stages, and the
// page's address.
func (a After) PostReceive(ctx context.Context, in io.Reader, out io.Writer) error {
	if file := os.Getenv(TakenVariable); file != "" {
		if err := os.WriteFile(file, nil, 0o600); err != nil {
			return fmt.Errorf("notifying the server: %w", err)
		}
	}
	wait := slices.Contains(pushOptions(), WaitOption)
	long := tellFor
	if wait {
		long = waitFor
	}
	ctx, cancel := context.WithTimeout(ctx, long)
	defer cancel()
	var built []PushOutcome
	for lines := bufio.NewScanner(in); lines.Scan(); {
		f := strings.Fields(lines.Text())
		if len(f) == 3 && f[1] != zero && strings.HasPrefix(f[2], "refs/heads/") {
			built = append(built, a.report(ctx, strings.TrimPrefix(f[2], "refs/heads/"), Move{Before: f[0], After: f[1]}, out)...)
		}
	}
	for _, b := range built {
		if wait && b.Version > 0 {
			a.follow(ctx, b, out)
		}
	}
	return nil
}

// report prints the result of a branch's build, and returns it.
func (a After) report(ctx context.Context, branch string, m Move, out io.Writer) []PushOutcome {
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	var list []PushOutcome
	noted, done := false, false
	for !done && ctx.Err() == nil {
		var err error
		if list, noted, done, err = a.Found(ctx, branch, m); err != nil {
			fmt.Fprintf(out, "Rudmar: accepted %s. The page shows the progress%s.\n", branch, a.at("", ""))
			return nil
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
	switch {
	case !noted:
		fmt.Fprintf(out, "Rudmar: accepted %s. The page shows the progress%s.\n", branch, a.at("", ""))
	case len(list) == 0:
		fmt.Fprintf(out, "Rudmar: accepted %s. No stage deploys from this branch, so nothing is built.\n", branch)
	}
	for _, b := range list {
		switch {
		case b.Version > 0:
			fmt.Fprintf(out, "Rudmar: %s is version %d of %s, %s%s\n", branch, b.Version, b.Service, b.destination(),
				a.at(b.Service, fmt.Sprintf("/versions/%d", b.Version)))
		case b.Reason != "":
			fmt.Fprintf(out, "Rudmar: accepted %s, but the build of %s failed: %s%s\n", branch, b.Service, b.Reason,
				a.at(b.Service, "/versions"))
		default:
			fmt.Fprintf(out, "Rudmar: accepted %s, and %s is being built%s\n", branch, b.Service, a.at(b.Service, "/versions"))
		}
	}
	return list
}

// at returns the address of a page.
func (a After) at(service, page string) string {
	if a.Page == "" {
		return ""
	}
	if service == "" {
		return " at " + a.Page
	}
	return ": " + a.Page + "/s/" + service + page
}
