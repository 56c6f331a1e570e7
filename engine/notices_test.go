package engine_test

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine"
	"rudmar/engine/notice"
	"rudmar/engine/store"
	"rudmar/outside"
)

// receiver receives notifications, with the responses of a test.
type receiver struct {
	mu     sync.Mutex
	got    []*http.Request
	bodies []string
	answer func(n int) int
	server *httptest.Server
}

func newReceiver(t *testing.T, answer func(n int) int) *receiver {
	r := &receiver{answer: answer}
	r.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		r.mu.Lock()
		r.got, r.bodies = append(r.got, q), append(r.bodies, string(body))
		n := len(r.got)
		r.mu.Unlock()
		if status := r.answer(n); status == http.StatusFound {
			http.Redirect(w, q, "/elsewhere", status)
		} else {
			w.WriteHeader(status)
			_, _ = io.WriteString(w, "noted")
		}
	}))
	t.Cleanup(r.server.Close)
	return r
}

func (r *receiver) count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.got)
}

// Events are sent as signed CloudEvents, in order, to matching targets; also after a failed attempt.
func TestNotifications(t *testing.T) {
	r := newRigWith(t, func(o *engine.Options) { o.NotificationsInside = true })
	ctx := t.Context()
	board := newReceiver(t, func(int) int { return 204 })
	other := newReceiver(t, func(int) int { return 204 })
	if _, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "board", URL: board.server.URL, Kinds: []string{"delivery."},
		Service: "frostline", Stage: "trial"}, "key-of-the-board", "wren"); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "other", URL: other.server.URL, Kinds: []string{"version.built"}}, "k", "wren"); err != nil {
		t.Fatal(err)
	}
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, "target: local/north", "targets: [local/north, local/coast]", 1)
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	r.until("its settling to be told", func() bool { return board.count() == 5 && other.count() == 1 })
	var states []string
	ids := map[string]bool{}
	for i, body := range board.bodies {
		var e struct {
			SpecVersion, ID, Source, Type, Subject, DataContentType string
			Time                                                    time.Time
			Data                                                    struct {
				Service, Stage, State, Target string
				Version                       int
			}
		}
		if err := json.Unmarshal([]byte(body), &e); err != nil || e.SpecVersion != "1.0" || e.ID == "" || e.Time.IsZero() ||
			e.Source != "urn:rudmar:frostline" || e.Subject != "frostline/trial" || e.Data.Version != 1 {
			t.Errorf("%v: %s", err, body)
		}
		q := board.got[i]
		if got := q.Header.Get(notice.SignatureHeader); got != notice.Sign("key-of-the-board", []byte(body)) {
			t.Errorf("it is signed with %s", got)
		}
		if !strings.HasPrefix(q.Header.Get("Content-Type"), "application/cloudevents+json") {
			t.Errorf("it comes as %s", q.Header.Get("Content-Type"))
		}
		states, ids[e.ID] = append(states, strings.TrimSpace(strings.TrimPrefix(e.Type, "rudmar.delivery.")+" "+e.Data.Target)), true
	}
	want := "planning, deploying local/north, deploying local/coast, testing, settled"
	if got := strings.Join(states, ", "); got != want || len(ids) != 5 {
		t.Errorf("%s, with %d ids", got, len(ids))
	}
	if strings.Contains(strings.Join(board.bodies, ""), "key-of-the-board") {
		t.Error("the key is in what is sent")
	}
}

// An unresponsive target is retried, delays no other, and its notification can be sent again manually; a
// redirect is not followed.
func TestFailedNotifications(t *testing.T) {
	r := newRigWith(t, func(o *engine.Options) { o.NotificationsInside = true })
	ctx := t.Context()
	sick := newReceiver(t, func(n int) int { return 500 })
	moved := newReceiver(t, func(int) int { return http.StatusFound })
	over := make(chan struct{})
	hung := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-over }))
	defer hung.Close()
	defer close(over)
	_, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "hung", URL: hung.URL}, "k", "wren")
	must(t, err)
	well := newReceiver(t, func(int) int { return 200 })
	hooks := map[string]store.NotificationTarget{}
	for name, at := range map[string]*receiver{"sick": sick, "moved": moved, "well": well} {
		h, err := r.Notifications.Add(ctx, notice.NewTarget{Name: name, URL: at.server.URL, Kinds: []string{"delivery.settled"}}, "k", "wren")
		must(t, err)
		hooks[name] = h
	}
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	state := func(name string) store.Notification {
		list, err := r.Store.Notifications(ctx, hooks[name].ID, 10)
		if err != nil || len(list) == 0 {
			return store.Notification{}
		}
		return list[0]
	}
	r.until("each to be tried", func() bool {
		return state("sick").Attempts == 1 && state("moved").Attempts == 1 && state("well").State == store.NotificationSent
	})
	backlogs, err := r.Store.Backlogs(ctx)
	must(t, err)
	for _, b := range backlogs {
		if b.Queued == 0 || b.Oldest.IsZero() || b.Target == "sick" && (b.Attempts != 1 || !strings.Contains(b.Response, "500")) || b.Target == "well" {
			t.Errorf("%+v", b)
		}
	}
	if len(backlogs) < 3 { // hung, moved, sick
		t.Errorf("backlogs: %+v", backlogs)
	}
	if n := state("sick"); n.State != store.NotificationQueued || !strings.Contains(n.Response, "500") || !n.Due.After(n.Made.Add(2*time.Second)) {
		t.Errorf("%+v", n)
	}
	if n := state("moved"); n.State != store.NotificationQueued || !strings.Contains(n.Response, "302") || moved.count() != 1 {
		t.Errorf("a redirect: %+v, asked %d times", n, moved.count())
	}
	if err := r.Store.RetryMessage(ctx, state("sick").ID); !errors.Is(err, store.ErrMoved) {
		t.Errorf("what is in progress is sent again: %v", err)
	}
	must(t, r.Store.RetryMessage(ctx, state("well").ID))
	r.until("it to be sent again", func() bool { return well.count() == 2 })
	if well.bodies[0] != well.bodies[1] {
		t.Error("sent again, it is another one")
	}
	must(t, r.Store.DeleteNotificationTarget(ctx, hooks["sick"], "wren"))
	if n := state("sick"); n.State != store.NotificationFailed {
		t.Errorf("what was queued for one that was ended: %+v", n)
	}
}

// Nothing is sent to addresses that point inside, whatever name leads there.
func TestNotificationAddresses(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	for address, want := range map[string]error{
		"http://127.0.0.1:9/": outside.ErrInside, "http://[::1]/": outside.ErrInside, "http://10.1.2.3/": outside.ErrInside,
		"http://192.168.1.1/": outside.ErrInside, "http://169.254.169.254/latest": outside.ErrInside, "http://[fe80::1]/": outside.ErrInside,
		"http://100.64.0.1/": outside.ErrInside, "http://0.0.0.0/": outside.ErrInside, "http://[::ffff:127.0.0.1]/": outside.ErrInside,
		"http://[fd00::1]/": outside.ErrInside, "ftp://example.org/": notice.ErrNotificationTarget, "http:///": notice.ErrNotificationTarget, "no address": notice.ErrNotificationTarget,
		"http://wren:pw@example.org/": notice.ErrNotificationTarget,
	} {
		if _, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "n", URL: address}, "k", "wren"); !errors.Is(err, want) || !errors.Is(err, notice.ErrNotificationTarget) {
			t.Errorf("%s: %v", address, err)
		}
	}
	for _, w := range []notice.NewTarget{{Name: "", URL: "https://example.org"}, {Name: "n", URL: "https://example.org", Kinds: []string{"delivery.lost"}},
		{Name: "n", URL: "https://example.org", Stage: "trial"}} {
		if _, err := r.Notifications.Add(ctx, w, "k", "wren"); !errors.Is(err, notice.ErrNotificationTarget) {
			t.Errorf("%+v: %v", w, err)
		}
	}
	// A name that leads inside is found out when it is dialled.
	inside := newReceiver(t, func(int) int { return 200 })
	named := strings.Replace(inside.server.URL, "127.0.0.1", "localhost", 1)
	h, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "named", URL: named, Kinds: []string{"version.built"}}, "k", "wren")
	must(t, err)
	r.push(first())
	r.until("it to be tried", func() bool {
		list, err := r.Store.Notifications(ctx, h.ID, 1)
		return err == nil && len(list) == 1 && list[0].Attempts == 1 && strings.Contains(list[0].Response, "address is internal")
	})
	if inside.count() != 0 {
		t.Error("it was sent inside")
	}
}
