package engine_test

import (
	"encoding/json"
	"strings"
	"testing"

	"rudmar/core/delivery"
	"rudmar/engine"
	"rudmar/engine/notice"
	"rudmar/engine/source"
)

// A push to a branch that no stage deploys from is not built, and its targets are notified of what it would
// change; also for unreadable manifests, and once per push.
func TestPushResponses(t *testing.T) {
	r := newRigWith(t, func(o *engine.Options) { o.NotificationsInside = true })
	ctx := t.Context()
	board := newReceiver(t, func(int) int { return 204 })
	if _, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "review", URL: board.server.URL, Kinds: []string{"branch.planned"}},
		"k", "wren"); err != nil {
		t.Fatal(err)
	}
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	made := false
	push := func(files map[string]string) {
		t.Helper()
		change := source.Change{Branch: "thaw", Base: r.head, Message: "Try a thaw", Author: "wren", Email: "w@x.invalid",
			New: !made, Files: map[string][]byte{}}
		made = true
		for name, text := range files {
			change.Files[name] = []byte(text)
		}
		var err error
		if r.head, err = r.Host.Repository("brambleford").Apply(ctx, change); err == nil {
			err = r.Build.Pushed(ctx, "brambleford", "wren")
		}
		must(t, err)
	}
	told := func(n int) string {
		t.Helper()
		r.until("it to be told", func() bool { return board.count() == n })
		var e struct {
			Type, Subject string
			Data          struct {
				Text, Branch, Commit, By string
				Impact                   []string
			}
		}
		if err := json.Unmarshal([]byte(board.bodies[n-1]), &e); err != nil || e.Type != "rudmar.branch.planned" ||
			e.Data.Branch != "thaw" || e.Data.Commit != r.head || e.Data.By != "wren" {
			t.Fatalf("%v: %s", err, board.bodies[n-1])
		}
		return e.Data.Text + "\n" + strings.Join(e.Data.Impact, "\n")
	}
	push(map[string]string{"a/main.py": "def run(call): return 'thaw'\n",
		"b/function.yaml": strings.Replace(fn("b", ""), "GET /b", "GET /b/new", 1)})
	if text := told(1); !strings.Contains(text, "in trial") || !strings.Contains(text, "updates 2 functions") ||
		!strings.Contains(text, "GET /b/new") {
		t.Errorf("it says %s", text)
	}
	if n, err := r.Store.NewestVersion(ctx, "frostline"); err != nil || n != 1 {
		t.Errorf("it was built: version %d %v", n, err)
	}
	push(map[string]string{"a/function.yaml": "function: a\nmemroy: 1\n"})
	if text := told(2); !strings.Contains(text, "cannot be planned: 3 errors") || !strings.Contains(text, "RM1") {
		t.Errorf("it says %s", text)
	}
	if err := r.Build.Pushed(ctx, "brambleford", "wren"); err != nil { // the move is reported again
		t.Fatal(err)
	}
	push(map[string]string{"a/function.yaml": fn("a", "")})
	told(3)
}
