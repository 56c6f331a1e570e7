package store_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"testing"
	"time"

	"rudmar/core/manifest"
	"rudmar/dbtest"
	"rudmar/engine/store"
)

func TestMain(m *testing.M) {
	time.Local = time.UTC // as testdata/reads.txt has it
	os.Exit(m.Run())
}

// reading is one query of a store.
type reading struct {
	name string
	of   func(ctx context.Context) (any, error)
}

func reads(s *store.Store) []reading {
	at := manifest.PlaceOf("frostline", "live", "local/north")
	const service = "frostline"
	actual := store.Delivery{Service: service, Version: 1, Stage: "live"}
	ask := func(name string, of func(ctx context.Context) (any, error)) reading { return reading{name, of} }
	since, ahead := time.UnixMilli(1_800_000_020_000), time.UnixMilli(1_900_000_000_000)
	return []reading{
		ask("repositories", func(ctx context.Context) (any, error) { return s.Repositories(ctx) }),
		ask("services", func(ctx context.Context) (any, error) { return s.Services(ctx) }),
		ask("services of a repository", func(ctx context.Context) (any, error) { return s.ServicesOf(ctx, "brambleford") }),
		ask("services of another", func(ctx context.Context) (any, error) { return s.ServicesOf(ctx, "canal") }),
		ask("people", func(ctx context.Context) (any, error) { return s.People(ctx) }),
		ask("a session", func(ctx context.Context) (any, error) { return s.Session(ctx, "hash") }),
		ask("tokens", func(ctx context.Context) (any, error) { return s.Tokens(ctx, "wren") }),
		ask("a token stands", func(ctx context.Context) (any, error) { return s.TokenValid(ctx, 1) }),
		ask("what a token may", func(ctx context.Context) (any, error) {
			t, err := s.Token(ctx, "tp")
			return t.Rights(), err
		}),
		ask("hooks", func(ctx context.Context) (any, error) { return s.NotificationTargets(ctx) }),
		ask("notices", func(ctx context.Context) (any, error) { return s.Notifications(ctx, 1, 2) }),
		ask("due notices", func(ctx context.Context) (any, error) {
			due, err := s.DueNotifications(ctx)
			return len(due), err
		}),
		ask("a notice", func(ctx context.Context) (any, error) { return s.Notification(ctx, 2) }),
		ask("heads", func(ctx context.Context) (any, error) { return s.Heads(ctx, "brambleford") }),
		ask("the last push", func(ctx context.Context) (any, error) { return s.LastPush(ctx, "brambleford", "main") }),
		ask("pushes since", func(ctx context.Context) (any, error) { return s.PushesSince(ctx, "brambleford", "main", "0") }),
		ask("pushers", func(ctx context.Context) (any, error) {
			return s.PushersOf(ctx, "brambleford", []string{"aaaaaaaaaaaaaa", "unknown"})
		}),
		ask("queued builds", func(ctx context.Context) (any, error) { return s.QueuedBuilds(ctx) }),
		ask("builds", func(ctx context.Context) (any, error) { return s.Builds(ctx, service, 2) }),
		ask("the latest build", func(ctx context.Context) (any, error) { return s.LatestBuild(ctx, service) }),
		ask("the build of a version", func(ctx context.Context) (any, error) { return s.BuildOf(ctx, service, 1) }),
		ask("a build from", func(ctx context.Context) (any, error) { return s.BuildFrom(ctx, service, "main", "bbbbbbbbbbbbbb") }),
		ask("branches", func(ctx context.Context) (any, error) { return s.BranchesOf(ctx, service, 1) }),
		ask("the newest version", func(ctx context.Context) (any, error) { return s.NewestVersion(ctx, service) }),
		ask("a version", func(ctx context.Context) (any, error) { return s.Version(ctx, service, 1) }),
		ask("versions", func(ctx context.Context) (any, error) { return s.ListVersions(ctx, service, store.Part{Limit: 9}) }),
		ask("older versions", func(ctx context.Context) (any, error) {
			return s.ListVersions(ctx, service, store.Part{Limit: 9, Before: 2})
		}),
		ask("versions with a text", func(ctx context.Context) (any, error) {
			return s.ListVersions(ctx, service, store.Part{Limit: 9, Text: "BBBB"})
		}),
		ask("versions in a state", func(ctx context.Context) (any, error) {
			return s.ListVersions(ctx, service, store.Part{Limit: 9, State: "waiting"})
		}),
		ask("functions", func(ctx context.Context) (any, error) { return s.VersionFunctions(ctx, service, 1) }),
		ask("last changed", func(ctx context.Context) (any, error) { return s.LastChanged(ctx, service, 2) }),
		ask("changed after", func(ctx context.Context) (any, error) { return s.ChangedAfter(ctx, service, 1) }),
		ask("built from", func(ctx context.Context) (any, error) { return s.BuiltFrom(ctx, "sone") }),
		ask("built from nothing", func(ctx context.Context) (any, error) { return s.BuiltFrom(ctx, "snone") }),
		ask("an archive", func(ctx context.Context) (any, error) { return s.Artifact(ctx, "sha256:one") }),
		ask("provenance", func(ctx context.Context) (any, error) { return s.Provenance(ctx, service, 1) }),
		ask("deliveries", func(ctx context.Context) (any, error) { return s.Deliveries(ctx, service) }),
		ask("current deliveries", func(ctx context.Context) (any, error) { return s.CurrentDeliveries(ctx, service) }),
		ask("deliveries of a version", func(ctx context.Context) (any, error) { return s.DeliveriesOf(ctx, service, 2) }),
		ask("restless stages", func(ctx context.Context) (any, error) { return s.StagesToPoll(ctx, service) }),
		ask("undelivered", func(ctx context.Context) (any, error) { return s.Undelivered(ctx, service) }),
		ask("approvals", func(ctx context.Context) (any, error) { return s.Approvals(ctx, service, 1, "live") }),
		ask("passed over", func(ctx context.Context) (any, error) { return s.Overrides(ctx, actual) }),
		ask("who looked", func(ctx context.Context) (any, error) { return s.Viewers(ctx, actual) }),
		ask("a choice", func(ctx context.Context) (any, error) { return s.Choice(ctx, service, 1, "live") }),
		ask("a choice that is there", func(ctx context.Context) (any, error) { return s.DeployedChoice(ctx, service, 1, "live") }),
		ask("judgements of what waits", func(ctx context.Context) (any, error) { return s.GateResults(ctx, service, 0) }),
		ask("judgements of a version", func(ctx context.Context) (any, error) { return s.GateResults(ctx, service, 1) }),
		ask("standing", func(ctx context.Context) (any, error) { return s.Standing(ctx, service) }),
		ask("a shift", func(ctx context.Context) (any, error) { return s.Shift(ctx, service, 2, "live") }),
		ask("active shifts", func(ctx context.Context) (any, error) { return s.ActiveShifts(ctx, service) }),
		ask("passages", func(ctx context.Context) (any, error) { return s.Passages(ctx, service, since) }),
		ask("cases", func(ctx context.Context) (any, error) { return s.CaseRuns(ctx, service, 1, "live") }),
		ask("a deployment", func(ctx context.Context) (any, error) { return s.Deployment(ctx, 1) }),
		ask("deployments", func(ctx context.Context) (any, error) { return s.Deployments(ctx, service, "", 5) }),
		ask("deployments elsewhere", func(ctx context.Context) (any, error) { return s.Deployments(ctx, service, "trial", 5) }),
		ask("running deployments", func(ctx context.Context) (any, error) { return s.RunningDeployments(ctx) }),
		ask("deployed at", func(ctx context.Context) (any, error) {
			all, err := s.DeployedAt(ctx, service)
			return fmt.Sprint(all), err
		}),
		ask("steps", func(ctx context.Context) (any, error) { return s.Steps(ctx, 1) }),
		ask("usual times", func(ctx context.Context) (any, error) { return s.UsualTimes(ctx) }),
		ask("a place that is free", func(ctx context.Context) (any, error) { return nil, s.Free(ctx, at, "other") }),
		ask("a place", func(ctx context.Context) (any, error) { return s.Stage(ctx, at) }),
		ask("places", func(ctx context.Context) (any, error) { return s.Stages(ctx, service) }),
		ask("a record", func(ctx context.Context) (any, error) { return s.Record(ctx, at) }),
		ask("functions at a place", func(ctx context.Context) (any, error) { return s.FunctionsAt(ctx, at) }),
		ask("a function's timeout", func(ctx context.Context) (any, error) { return s.Timeout(ctx, at, "warn") }),
		ask("looks", func(ctx context.Context) (any, error) { return s.Observations(ctx, service) }),
		ask("what is left", func(ctx context.Context) (any, error) { return s.IgnoredDrift(ctx, at, since) }),
		ask("what is left later", func(ctx context.Context) (any, error) { return s.IgnoredDrift(ctx, at, ahead.Add(time.Hour)) }),
		ask("secrets", func(ctx context.Context) (any, error) { return s.Secrets(ctx, service, "live") }),
		ask("are there secrets", func(ctx context.Context) (any, error) { return s.HasSecrets(ctx) }),
		ask("are there versions", func(ctx context.Context) (any, error) { return s.HasVersions(ctx) }),
		ask("whose plan", func(ctx context.Context) (any, error) { return s.PlaceOfPlan(ctx, 1) }),
		ask("whose deployment", func(ctx context.Context) (any, error) { return s.PlaceOfDeployment(ctx, 1) }),
		ask("copies", func(ctx context.Context) (any, error) { return s.Copies(ctx) }),
		ask("mirrors", func(ctx context.Context) (any, error) { return s.Mirrors(ctx) }),
		ask("states", func(ctx context.Context) (any, error) { return s.CountStates(ctx) }),
		ask("what is stuck", func(ctx context.Context) (any, error) { return s.StalledSince(ctx, ahead) }),
		ask("what was stuck", func(ctx context.Context) (any, error) { return s.StalledSince(ctx, since) }),
		ask("the journal of a person", func(ctx context.Context) (any, error) {
			return s.Journal(ctx, service, true, store.Part{Limit: 2}, store.Entry{Person: "linden"})
		}),
		ask("the journal of a stage", func(ctx context.Context) (any, error) {
			return s.Journal(ctx, service, true, store.Part{Limit: 1, Before: 20, Text: "VERSION"}, store.Entry{Stage: "live", What: "approved"})
		}),
		ask("the newest event", func(ctx context.Context) (any, error) { return s.NewestEvent(ctx) }),
		ask("events after", func(ctx context.Context) (any, error) { return s.EventsAfter(ctx, 3, 1) }),
	}
}

// TestQueriesUseIndexes compares reads in the middle of the story and at its end with testdata/reads.txt.
func TestQueriesUseIndexes(t *testing.T) {
	s, c, _ := open(t)
	var got []string
	last := map[string]string{} // the former result of each: a different one is written again
	for _, a := range story(s) {
		_ = a.Do(t.Context()) // errors are in acts.txt
		c.add(time.Second)
		switch a.Name {
		case "its place is taken", "it has settled", "drift is left for a while", "it is held", "a notice is tried in vain", "a private copy is made", "a repository follows another":
		default:
			continue
		}
		got = append(got, "after "+a.Name)
		for _, r := range reads(s) {
			v, err := r.of(t.Context())
			text, jsonErr := json.Marshal(v)
			switch {
			case errors.Is(err, store.ErrNotFound):
				text = []byte("not found")
			case err != nil:
				text = []byte(err.Error())
			case jsonErr != nil:
				t.Fatal(jsonErr)
			}
			if line := fmt.Sprintf("  %s: %s", r.name, text); line != last[r.name] {
				got, last[r.name] = append(got, line), line
			}
		}
	}
	dbtest.Same(t, got, "testdata/reads.txt", *update)
}
