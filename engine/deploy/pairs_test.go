package deploy_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"rudmar/core/canon"
	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/engine/deploy"
	"rudmar/platform"
	"rudmar/platform/local"
)

var pairs = flag.Int("pairs", 200, "how many pairs of services TestPairs goes through")

// world is a stage on the real local platform, with its record.
type world struct {
	testing.TB
	address string
	client  *platform.Client
	scope   platform.Scope
	kinds   []plan.KindSpec
	record  []plan.Recorded
	keys    int
	digests []string // of archives that the platform has
}

func newWorld(t testing.TB) *world {
	t.Helper()
	var p *local.Platform
	var protocol http.Handler
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { protocol.ServeHTTP(w, r) }))
	var err error
	if p, err = local.Open(t.Context(), local.Options{Dir: t.TempDir(), Token: "t", RoutesAt: "http://routes",
		DataAt: server.URL, Log: slog.New(slog.DiscardHandler)}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		server.Close()
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	})
	protocol = p.Protocol()
	w := &world{TB: t, address: server.URL, scope: platform.Scope{Region: "north", Service: "orchard", Stage: "trial"}}
	if w.client, err = platform.NewClient(server.URL, "t"); err != nil {
		t.Fatal(err)
	}
	kinds, err := w.client.Kinds(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	w.kinds = deploy.Specs(kinds)
	for i := range 3 {
		entries := []pack.Entry{{Path: "main.py", Content: fmt.Appendf(nil, "def run(call):\n    return %d\n", i)}}
		listing, err := pack.List(entries)
		if err != nil {
			t.Fatal(err)
		}
		var archive bytes.Buffer
		if err := pack.Write(&archive, entries); err != nil {
			t.Fatal(err)
		}
		if err := w.client.PutArtifact(t.Context(), listing.Digest(), archive.Bytes()); err != nil {
			t.Fatal(err)
		}
		w.digests = append(w.digests, listing.Digest())
	}
	return w
}

// draw generates a service, with its desired state; before is its predecessor, whose functions can be renamed.
func (w *world) draw(dice *rand.Rand, before *manifest.Service) (*manifest.Service, []expand.Resource) {
	one := func(texts ...string) string { return texts[dice.IntN(len(texts))] }
	for range 5000 {
		files := map[string]string{"rudmar.yaml": "rudmar: 1\nservice: orchard\nowner: growers\n" +
			one("", "defaults: {memory: 192 MiB}\n") + "stages: [{stage: trial, target: local/north, enter: {when: push, branch: main}}]\n"}
		var renamed string
		for _, name := range []string{"ash", "beech", "cherry", "damson", "elder"} {
			if dice.IntN(2) == 0 {
				continue
			}
			text := "function: " + name + "\nruntime: python\nhandler: main:run\n" +
				one("", "memory: 256 MiB\n", "timeout: 10s\n", "max_concurrency: 3\n") + one("", "env: {PLACE: barn}\n", "env: {PLACE: shed, N: \"1\"}\n")
			if before != nil && before.Function(name) == nil && dice.IntN(2) == 0 {
				for _, old := range before.Functions {
					if files[old.Name+"/function.yaml"] == "" && old.Name > name && old.Name != renamed {
						renamed = old.Name
						text += "renamed_from: " + renamed + "\n"
						break
					}
				}
			}
			if dice.IntN(2) == 0 {
				text += "permissions:\n" + one("", "  - {allow: [read], resource: tables/stations}\n", "  - {allow: [read, write], resource: tables/*}\n") +
					one("", "  - {allow: [send], resource: queues/alerts}\n") + "  - {allow: [write], resource: objects/photos}\n"
			}
			off := one("", ", enabled: false")
			text += "triggers:\n  ask: {route: " + one("GET", "POST", "ANY") + " " + one("/s", "/s/{id}", "/s/{key}", "/t/{rest...}") +
				", open_to: " + one("authenticated", "anyone", "[growers]") + off + "}\n" +
				one("", "  sweep: {every: 5m}\n", "  sweep: {cron: \"0 6 * * *\", zone: Europe/Oslo}\n") +
				one("", "  in: {queue: alerts}\n", "  in: {objects: photos, events: [written]}\n")
			files[name+"/function.yaml"], files[name+"/main.py"] = text, "def run(call):\n    return 0\n"
		}
		result := check.Service(manifest.FilesOf(files))
		if !result.OK() {
			continue // such as two routes for the same requests
		}
		in := expand.Inputs{Version: 1, Artifacts: map[string]string{}, Key: []byte("k"), Address: "http://routes"}
		for _, fn := range result.Service.Functions {
			in.Artifacts[fn.Name] = w.digests[dice.IntN(len(w.digests))]
		}
		stage := result.Service.Stage("trial")
		resources, problems := expand.Expand(result.Service, stage, stage.Targets[0], in)
		if len(problems) == 0 {
			return result.Service, resources
		}
	}
	w.Fatal("no service could be drawn")
	return nil, nil
}

// plans computes the plan to the desired state.
func (w *world) plans(s *manifest.Service, wanted []expand.Resource) *plan.Plan {
	w.Helper()
	snapshot, err := w.client.Snapshot(w.Context(), w.scope)
	if err != nil {
		w.Fatal(err)
	}
	in := plan.Inputs{Wanted: wanted, Record: slices.Clone(w.record), Actual: deploy.Actual(snapshot), Kinds: w.kinds, Renames: true,
		Renamed: map[string]string{}}
	for _, r := range in.Actual {
		if !slices.ContainsFunc(w.record, func(own plan.Recorded) bool { return own.Address == r.Address }) {
			in.Deletions = append(in.Deletions, r.Address)
		}
	}
	for _, fn := range s.Functions {
		if fn.RenamedFrom != "" {
			in.Renamed[fn.Name] = fn.RenamedFrom
		}
	}
	return plan.Compute(in)
}

// deploy carries a plan out on the platform, wave by wave, and keeps the record.
func (w *world) deploy(p *plan.Plan) error {
	steps := slices.Clone(p.Steps)
	slices.SortStableFunc(steps, func(a, b plan.Step) int { return a.Phase - b.Phase })
	for _, s := range steps {
		w.keys++
		key := fmt.Sprint("pair-", w.keys)
		if !s.RecordOnly && s.Change == resource.Delete {
			if err := w.client.Delete(w.Context(), w.scope, s.Address, platform.Change{Key: key, Match: s.Tag}); err != nil {
				return fmt.Errorf("%s %s: %w", s.Change, s.Address, err)
			}
		} else if !s.RecordOnly {
			if _, err := w.client.Put(w.Context(), w.scope, s.Address, platform.Change{Key: key, Match: s.Tag, Attributes: s.Want,
				Version: 1, RenamedFrom: s.RenamedFrom, Replace: s.Change == resource.Replace}); err != nil {
				return fmt.Errorf("%s %s: %w", s.Change, s.Address, err)
			}
		}
		w.keep(s)
	}
	return nil
}

// keep brings the record up to date with a step that is done, as the store does.
func (w *world) keep(s plan.Step) {
	if s.RenamedFrom != "" {
		to := map[string]string{s.RenamedFrom: s.Function}
		for i := range w.record {
			r := &w.record[i]
			if r.Function == s.RenamedFrom {
				r.Function = s.Function
			}
			r.Address = plan.Renamed(r.Address, to)
			for j := range r.Needs {
				r.Needs[j] = plan.Renamed(r.Needs[j], to)
			}
		}
	}
	w.record = slices.DeleteFunc(w.record, func(r plan.Recorded) bool { return r.Address == s.Address })
	if s.Change != resource.Delete {
		w.record = append(w.record, plan.Recorded{Address: s.Address, Kind: s.Kind, Function: s.Function, Attributes: s.Want,
			Needs: slices.Clone(s.WantNeeds)})
	}
	slices.SortFunc(w.record, func(a, b plan.Recorded) int { return strings.Compare(a.Address, b.Address) })
}

// hand changes something outside Rudmar.
func (w *world) hand(dice *rand.Rand) string {
	if len(w.record) == 0 {
		return ""
	}
	r := w.record[dice.IntN(len(w.record))]
	method, body := "PUT", map[string]any(nil)
	switch r.Kind {
	case resource.Function:
		body = map[string]any{"memory": float64(320 << 20), "env.PLACE": "cellar"}
	case resource.Grant:
		body = []map[string]any{{"verbs": []any{"delete"}}, {"resource": "tables/other"}}[dice.IntN(2)]
	case resource.Identity:
		body = map[string]any{"owner": "somebody"}
	case resource.Opening:
		body = map[string]any{"to": []any{"anyone"}}
	case resource.Subscription:
		body = []map[string]any{{"enabled": false}, {"source": "queue/other"}}[dice.IntN(2)]
	case resource.Route, resource.Schedule, resource.Logs:
		if method = "DELETE"; dice.IntN(2) == 0 && r.Kind != resource.Logs {
			method, body = "PUT", map[string]any{"enabled": false}
		}
	default:
		return ""
	}
	text, err := json.Marshal(body)
	if err != nil {
		w.Fatal(err)
	}
	q, err := http.NewRequestWithContext(w.Context(), method, w.address+"/hand/"+w.scope.Region+"/"+w.scope.Service+"/"+
		w.scope.Stage+"/"+url.PathEscape(r.Address), bytes.NewReader(text))
	if err != nil {
		w.Fatal(err)
	}
	q.Header.Set("Authorization", "Bearer t")
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		w.Fatal(err)
	}
	_ = answer.Body.Close()
	if answer.StatusCode == http.StatusNotFound {
		return "" // it was removed manually before
	}
	if answer.StatusCode >= 300 {
		w.Fatalf("%s %s by hand: %d", method, r.Address, answer.StatusCode)
	}
	return method + " " + r.Address + " " + string(text)
}

// settled checks that the actual state is the desired one, and that the plan is empty.
func (w *world) settled(s *manifest.Service, wanted []expand.Resource) error {
	if p := w.plans(s, wanted); !p.Empty() {
		return fmt.Errorf("the next plan is not empty: %s", said(p))
	}
	snapshot, err := w.client.Snapshot(w.Context(), w.scope)
	if err != nil {
		return err
	}
	if len(snapshot.Resources) != len(wanted) {
		return fmt.Errorf("%d resources are live, and %d wanted", len(snapshot.Resources), len(wanted))
	}
	for _, l := range snapshot.Resources {
		i := slices.IndexFunc(wanted, func(r expand.Resource) bool { return r.Address == l.Address })
		if i < 0 {
			return fmt.Errorf("%s is live, and not wanted", l.Address)
		}
		for name, v := range wanted[i].Values() {
			if !canon.Equal(v, l.Attributes[name]) {
				return fmt.Errorf("%s of %s is %v, wanted %v", name, l.Address, l.Attributes[name], v)
			}
		}
	}
	if drift := plan.FindDrift(w.record, deploy.Actual(snapshot), w.kinds); len(drift) > 0 {
		return fmt.Errorf("drift is left: %+v", drift)
	}
	return nil
}

func said(p *plan.Plan) string {
	var text strings.Builder
	_ = p.Write(&text, nil) // a builder accepts everything
	return text.String()
}

// TestPairs deploys service after service, with outside changes between them, on the real local platform: after
// each plan the next is empty, the actual state is the desired one, and a rollback restores the former state,
// renames included.
func TestPairs(t *testing.T) {
	w := newWorld(t)
	dice := rand.New(rand.NewPCG(uint64(*pairs), 13))
	there, wanted := w.draw(dice, nil)
	if err := w.deploy(w.plans(there, wanted)); err != nil {
		t.Fatal(err)
	}
	var renames, hands, stopped, backs, replaced int
	for n := range *pairs {
		next, want := w.draw(dice, there)
		var byHand []string
		for range dice.IntN(3) {
			if what := w.hand(dice); what != "" {
				hands, byHand = hands+1, append(byHand, what)
			}
		}
		p := w.plans(next, want)
		for _, s := range p.Steps {
			if s.RenamedFrom != "" {
				renames++
			}
			if s.Change == resource.Replace && s.Kind != resource.Revision {
				replaced++
			}
		}
		if len(p.Blockers) > 0 {
			// Two routes that swap need two versions: nothing else blocks a plan here.
			if !strings.Contains(p.Blockers[0].Message, "deliver the change in two versions") {
				t.Fatalf("pair %d: %v\n%s", n, p.Blockers, said(p))
			}
			stopped++
			if err := w.deploy(w.plans(there, wanted)); err != nil { // outside changes are reverted
				t.Fatalf("pair %d: %v", n, err)
			}
			continue
		}
		if err := w.deploy(p); err != nil {
			t.Fatalf("pair %d, after %v: %v\n%s", n, byHand, err, said(p))
		}
		if err := w.settled(next, want); err != nil {
			t.Fatalf("pair %d, after %v: %v\n%s", n, byHand, err, said(p))
		}
		if dice.IntN(4) == 0 {
			back := w.plans(returning(there, next), wanted)
			if len(back.Blockers) == 0 {
				backs++
				if err := w.deploy(back); err != nil {
					t.Fatalf("pair %d, back: %v\n%s", n, err, said(back))
				}
				if err := w.settled(there, wanted); err != nil {
					t.Fatalf("pair %d, back: %v\n%s", n, err, said(back))
				}
				continue
			}
		}
		there, wanted = next, want
	}
	t.Logf("%d pairs: %d renames, %d replacements, %d changes by hand, %d ways back, %d stopped as routes change places",
		*pairs, renames, replaced, hands, backs, stopped)
	if renames == 0 || hands == 0 || backs == 0 || replaced == 0 || stopped > *pairs/4 {
		t.Error("the pairs are not of every kind")
	}
}

// returning is the former service, whose renamed functions name their former names.
func returning(before, after *manifest.Service) *manifest.Service {
	out := &manifest.Service{Name: before.Name}
	for _, fn := range before.Functions {
		copied := *fn
		copied.RenamedFrom = ""
		for _, now := range after.Functions {
			if now.RenamedFrom == fn.Name {
				copied.RenamedFrom = now.Name
			}
		}
		out.Functions = append(out.Functions, &copied)
	}
	return out
}
