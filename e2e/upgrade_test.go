package e2e

import (
	"database/sql"
	"fmt"
	"net/http"

	"path/filepath"
	"slices"
	"strings"
	"testing"

	"rudmar/server/api"
)

// read returns the rows of a query on a database of a data folder, each as a line.
func read(t *testing.T, file, query string) []string {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query(query)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			t.Fatal(err)
		}
		out = append(out, line)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	return out
}

// testdata/former-data.tar.gz is the data folder of the demo, made by the last release with the
// former terms, with its platform: with three tokens, a notification target, an ignored drift,
// an overridden gate, a paused traffic shift, and an approval of a version that waits. After
// the upgrade everything means what it meant before.
func TestUpgradeFromFormerTerms(t *testing.T) {
	t.Parallel()
	parent := t.TempDir()
	if out, err := run(t, ".", "tar", "-xzf", "testdata/former-data.tar.gz", "--no-same-owner", "-C", parent); err != nil {
		t.Fatal(err, out)
	}
	data := filepath.Join(parent, "data")
	database, platform := filepath.Join(data, "rudmar.db"), filepath.Join(data, "platform", "platform.db")
	read(t, database, `UPDATE tokens SET until = 4102444800000 RETURNING name`) // they outlive this test
	const schedules = `SELECT region || ' ' || service || ' ' || stage || ' ' || address || ' ' || attributes FROM resources
		WHERE kind = 'schedule' ORDER BY 1`
	before := read(t, platform, schedules)
	r := launch(t, data, "serve", "--listen", "127.0.0.1:0", "--platform-listen", "127.0.0.1:0", "--routes-listen", "127.0.0.1:0")

	for _, at := range []struct {
		service, stage, target string
		steps                  string // of drift from before
	}{
		{"frostline", "trial", "local/north", ""}, {"frostline", "preview", "local/north", ""},
		{"frostline", "live", "local/north", "restore function/warn, restore pointer/warn, replace revision/warn"},
		{"frostline", "live", "local/coast", ""}, {"watering", "trial", "local/north", ""},
		{"watering", "live", "local/coast", ""}, {"boxes", "trial", "local/north", ""}, {"boxes", "shop", "local/north", ""},
	} {
		var p api.SavedPlan
		r.ask("marram", "POST", "/services/"+at.service+"/plans", api.PlanRequest{Stage: at.stage, Target: &at.target}, &p)
		var steps []string
		for _, s := range p.Plan.Steps {
			steps = append(steps, string(s.Change)+" "+s.Address)
		}
		if got := strings.Join(steps, ", "); got != at.steps || len(p.Plan.Blockers) > 0 || p.Plan.Base.Version != p.Plan.Base.From {
			t.Errorf("the plan of %s for %s on %s: %s, blockers %v", at.service, at.stage, at.target, got, p.Plan.Blockers)
		}
	}
	if after := read(t, platform, schedules); !slices.Equal(before, after) || len(before) != 12 ||
		strings.Count(strings.Join(after, "\n"), `"enabled":false`) != 1 {
		t.Errorf("schedules before:\n%s\nafter:\n%s", strings.Join(before, "\n"), strings.Join(after, "\n"))
	}

	for _, tt := range []struct{ user, name, permissions, scopes string }{
		{"wren", "nightly", "view invoke write request", "frostline"}, {"marram", "all-admin", "view invoke administer", ""},
		{"linden", "ops", "view approve set-secrets deploy", ""},
	} {
		var tokens []api.Token
		r.ask(tt.user, "GET", "/account/tokens", nil, &tokens)
		if len(tokens) != 1 || tokens[0].Name != tt.name || strings.Join(tokens[0].Permissions, " ") != tt.permissions ||
			strings.Join(tokens[0].Scopes, " ") != tt.scopes {
			t.Errorf("tokens of %s: %+v", tt.user, tokens)
		}
	}
	for _, tt := range []struct {
		token, method, path, body string
		want                      int
	}{
		{"rudmar_7f792a0eb2757a75039c822a6128c1471c4c33e3e9107928", "GET", "/services/frostline/board", "", 200},
		{"rudmar_7f792a0eb2757a75039c822a6128c1471c4c33e3e9107928", "GET", "/services/watering/board", "", 403},
		{"rudmar_7f792a0eb2757a75039c822a6128c1471c4c33e3e9107928", "POST", "/services/frostline/deliveries/7/stages/preview/reject", "{}", 403},
		{"rudmar_b4585bd1986eae3cd131eb009a1ac60c9fb3ab380569ca7b", "POST", "/notification-targets", `{"name": "shed", "url": "https://192.0.2.1/", "types": []}`, 201},
		{"rudmar_b4585bd1986eae3cd131eb009a1ac60c9fb3ab380569ca7b", "PUT", "/services/frostline/stages/live/secrets/sms_key", `{"value": "x"}`, 403},
		{"rudmar_f657edda55827967211673beab88e1ebc4e40bd7b5c6422e", "PUT", "/services/frostline/stages/live/secrets/sms_key", `{"value": "x"}`, 204},
		{"rudmar_f657edda55827967211673beab88e1ebc4e40bd7b5c6422e", "POST", "/notification-targets", `{"name": "shed", "url": "https://192.0.2.1/", "types": []}`, 403},
	} {
		status, text := sent(t, tt.method, r.address+"/api"+tt.path, strings.NewReader(tt.body), func(q *http.Request) {
			q.Header.Set("Authorization", "Bearer "+tt.token)
			q.Header.Set("Content-Type", "application/json")
		})
		if status != tt.want {
			t.Errorf("%s %s with %.12s: %d %s", tt.method, tt.path, tt.token, status, text)
		}
	}

	// Everybody views everything, as before, and the journal says so.
	var told []api.JournalEntry
	r.ask("marram", "GET", "/services/frostline/journal?text=view%20everywhere", nil, &told)
	if len(told) < 3 {
		t.Errorf("nothing says that everybody can view everything: %+v", told)
	}
	for _, user := range []string{"wren", "linden", "marram"} {
		for _, service := range []string{"frostline", "watering", "boxes"} {
			if status, text := r.try(user, "GET", "/services/"+service+"/board", nil, nil); status != 200 {
				t.Errorf("%s views %s: %d %s", user, service, status, text)
			}
		}
	}

	gate := func(service string, version int, stage string, kind string) (out api.Gate) {
		until(t, fmt.Sprintf("the gates of %s %d are evaluated", service, version), func() bool {
			var d api.DeliveryStage
			r.ask("marram", "GET", fmt.Sprintf("/services/%s/deliveries/%d/stages/%s", service, version, stage), nil, &d)
			i := slices.IndexFunc(d.Gates, func(g api.Gate) bool { return string(g.Kind) == kind })
			if i >= 0 {
				out = d.Gates[i]
			}
			return i >= 0 && !strings.Contains(out.Reason, "waiting for a plan")
		})
		return out
	}
	if g := gate("frostline", 6, "live", "approvals"); !strings.Contains(g.Reason,
		"linden approved before Rudmar was upgraded, when an approval covered other data, and must approve again") {
		t.Errorf("the approval from before: %+v", g)
	}
	if g := gate("boxes", 4, "shop", "rule"); g.State != "overridden" {
		t.Errorf("the overridden gate: %+v", g)
	}
	var d api.DeliveryStage
	r.ask("marram", "GET", "/services/watering/deliveries/3/stages/live", nil, &d)
	if d.Place.State != "shifting" || d.Shift == nil || api.OrZero(d.Shift.PausedBy) == "" {
		t.Errorf("the paused traffic shift: %s %+v", d.Place.State, d.Shift)
	}
	var list struct{ Targets []api.NotificationTarget }
	r.ask("marram", "GET", "/notification-targets", nil, &list)
	if len(list.Targets) != 2 || fmt.Sprint(list.Targets[0].Types) != "[delivery. delivery.rolled-back drift.detected]" {
		t.Errorf("notification targets: %+v", list.Targets)
	}
	until(t, "the drift is observed", func() bool {
		var drift []api.DriftEntry
		r.ask("marram", "GET", "/services/frostline/drift", nil, &drift)
		return slices.ContainsFunc(drift, func(e api.DriftEntry) bool {
			return slices.ContainsFunc(e.Drift.Attributes, func(a api.DriftedAttribute) bool {
				return a.Name == "env.MODE" && a.Ignored != nil && a.Ignored.Reason == "quiet until spring"
			})
		})
	})
	var journal []api.JournalEntry
	r.ask("marram", "GET", "/services/frostline/journal", nil, &journal)
	for _, e := range journal {
		for _, former := range []string{"passed over", "left a change", "asked for", "deployment done", "shift: hold", "proving", "overtaken"} {
			if strings.Contains(e.Action+" "+e.Text, former) {
				t.Errorf("the journal: %s: %s", e.Action, e.Text)
			}
		}
	}
}
