package store_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine/store"
)

// is fails the test if an error is not the expected one; nil for none.
func is(t *testing.T, what string, err, want error) {
	t.Helper()
	if !errors.Is(err, want) {
		t.Errorf("%s: %v, want %v", what, err, want)
	}
}

func TestServicesAndTheirRepositories(t *testing.T) {
	s, _, _ := open(t)
	ctx := t.Context()
	must(t, s.AddRepository(ctx, "brambleford", "wren"))
	must(t, s.AddRepository(ctx, "canal", "wren"))
	here := store.Service{Name: "frostline", Repository: "brambleford", Dir: "frostline"}
	must(t, s.AddService(ctx, here, true, "wren"))
	is(t, "another repository's", s.AddService(ctx, store.Service{Name: "frostline", Repository: "canal"}, true, "wren"), store.ErrOwned)
	is(t, "its own again", s.AddService(ctx, store.Service{Name: "frostline", Repository: "brambleford", Dir: "aside"}, false, "wren"), nil)
	got, err := s.Service(ctx, "frostline")
	if err != nil || got.Dir != "frostline" {
		t.Errorf("a branch that no stage takes moved it to %q: %v", got.Dir, err)
	}
	is(t, "moving what does not exist", s.MoveService(ctx, "icehouse", "canal", "wren"), store.ErrNotFound)
	must(t, s.RecordHead(ctx, store.Head{Repository: "canal", Branch: "main", Hash: "abc"}))
	is(t, "moving it", s.MoveService(ctx, "frostline", "canal", "wren"), nil)
	if heads, err := s.Heads(ctx, "canal"); err != nil || len(heads) != 0 {
		t.Errorf("what stands in canal already is not looked at again: %v %v", heads, err)
	}
	is(t, "a repository with a service", s.DeleteRepository(ctx, "canal", "wren"), store.ErrInUse)
	is(t, "a service", s.DeleteService(ctx, "frostline", "wren"), nil)
	is(t, "a service that went", s.DeleteService(ctx, "frostline", "wren"), store.ErrNotFound)
	is(t, "a repository", s.DeleteRepository(ctx, "canal", "wren"), nil)
	is(t, "a repository that went", s.DeleteRepository(ctx, "canal", "wren"), store.ErrNotFound)
	is(t, "a service that was removed, by another repository", s.AddService(ctx, here, true, "wren"), nil)
}

func TestTokensBelongToTheirCreators(t *testing.T) {
	s, clock, _ := open(t)
	ctx := t.Context()
	must(t, s.PutPerson(ctx, store.Person{Username: "wren", Granted: []rights.Grant{{Right: "author"}}, Password: "x"}, "", "user created"))
	token := store.Token{Username: "wren", Name: "nightly", Grants: []rights.Grant{{Right: "view"}}, Until: s.Now().Add(time.Hour)}
	id, err := s.AddToken(ctx, "hash", token)
	must(t, err)
	_, err = s.AddToken(ctx, "other", token)
	is(t, "a second one of that name", err, store.ErrTokenNamed)
	is(t, "somebody else ends it", s.RevokeToken(ctx, "linden", id), store.ErrNotFound)
	one, err := s.Token(ctx, "hash")
	if err != nil || one.ID != id || !one.Used.IsZero() || !one.Ended.IsZero() {
		t.Errorf("%+v %v", one, err)
	}
	must(t, s.UsedToken(ctx, one, "127.0.0.1"))
	used, err := s.Token(ctx, "hash")
	must(t, err)
	clock.add(30 * time.Second)
	must(t, s.UsedToken(ctx, used, "127.0.0.1")) // once a minute
	if again, err := s.Token(ctx, "hash"); err != nil || !again.Used.Equal(used.Used) || again.From != "127.0.0.1" {
		t.Errorf("%+v, %+v %v", used, again, err)
	}
	clock.add(30 * time.Second)
	must(t, s.UsedToken(ctx, used, "127.0.0.1")) // and then again
	if again, err := s.Token(ctx, "hash"); err != nil || !again.Used.Equal(s.Now()) {
		t.Errorf("%+v %v", again, err)
	}
	must(t, s.UsedToken(ctx, used, "10.0.0.7"))
	if again, err := s.Token(ctx, "hash"); err != nil || again.From != "10.0.0.7" || !again.Used.After(used.Used) {
		t.Errorf("%+v %v", again, err)
	}
	is(t, "its maker ends it", s.RevokeToken(ctx, "wren", id), nil)
	is(t, "twice", s.RevokeToken(ctx, "wren", id), store.ErrNotFound)
	if list, err := s.Tokens(ctx, "wren"); err != nil || len(list) != 0 {
		t.Errorf("%+v %v", list, err)
	}
}

// A service stays as long as one of its versions is deployed in a stage.
func TestExistingService(t *testing.T) {
	s, _, _ := open(t)
	version := withVersion(t, s, "one")
	must(t, s.StartDelivery(t.Context(), "frostline", version, []string{"live"}, nil))
	d, err := s.Delivery(t.Context(), "frostline", version, "live")
	must(t, err)
	from := d.State
	d.State = delivery.Settled
	must(t, s.MoveDeliveries(t.Context(), store.Move{From: from, To: d}))
	is(t, "removing it", s.DeleteService(t.Context(), "frostline", "wren"), store.ErrInUse)
}

// Unused space is returned to the disk, if it is enough.
func TestReleaseLease(t *testing.T) {
	s, _, dir := open(t)
	withVersion(t, s, "one")
	size := func() int64 {
		must(t, s.WithRelaxedSync(t.Context(), func() error { return nil })) // writes are in the file then
		stat, err := os.Stat(filepath.Join(dir, "rudmar.db"))
		must(t, err)
		return stat.Size()
	}
	put := func(version int, body string) {
		must(t, s.PutGateResults(t.Context(), "frostline", store.GateResults{Version: version, Stage: "live", Body: body}))
	}
	must(t, s.StartDelivery(t.Context(), "frostline", 1, []string{"live"}, nil))
	put(1, strings.Repeat("x", 4<<20))
	full := size()
	must(t, s.ReclaimSpace(t.Context()))
	if now := size(); now < full {
		t.Errorf("it gave back %d of what is used", full-now)
	}
	put(1, "")
	must(t, s.ReclaimSpace(t.Context()))
	if now := size(); full < 4<<20 || now > full/2 {
		t.Errorf("it has %d bytes, before %d", now, full)
	}
}

// A token that has run out is listed for a week more.
func TestExpiredTokens(t *testing.T) {
	s, clock, _ := open(t)
	must(t, s.PutPerson(t.Context(), store.Person{Username: "wren", Granted: []rights.Grant{{Right: "author"}}, Password: "x"}, "", "user created"))
	_, err := s.AddToken(t.Context(), "hash", store.Token{Username: "wren", Name: "nightly", Grants: []rights.Grant{{Right: "view"}}, Until: s.Now().Add(time.Hour)})
	must(t, err)
	for i, listed := range []int{1, 1, 0} { // after no time, a week, and a week and two hours
		if list, err := s.Tokens(t.Context(), "wren"); err != nil || len(list) != listed {
			t.Errorf("%d: %+v %v", i, list, err)
		}
		clock.add([]time.Duration{7 * 24 * time.Hour, 2 * time.Hour, 0}[i])
	}
}

// Relaxed writes do not wait for the disk, and the setting is restored afterwards.
func TestPriority(t *testing.T) {
	s, _, _ := open(t)
	asked := 0
	waits := func() (how int) {
		asked++ // a cached statement returns the value from its preparation
		must(t, s.Within(t.Context(), func(tx store.Tx) error {
			return tx.QueryRowContext(t.Context(), fmt.Sprintf(`PRAGMA synchronous -- %d`, asked)).Scan(&how)
		}))
		return how
	}
	const normal, full = 1, 2
	failed := errors.New("not so")
	is(t, "what it did", s.WithRelaxedSync(t.Context(), func() error {
		if waits() != normal {
			t.Error("it waits for the disk")
		}
		return failed
	}), failed)
	if waits() != full {
		t.Error("nobody waits for the disk any more")
	}
}

func TestHookInput(t *testing.T) {
	s, _, _ := open(t)
	ctx := t.Context()
	for _, tt := range []struct {
		hook                 store.NotificationTarget
		kind, service, stage string
		want                 bool
	}{
		{store.NotificationTarget{}, "delivery.settled", "frostline", "live", true},
		{store.NotificationTarget{Kinds: []string{"delivery."}}, "delivery.settled", "frostline", "live", true},
		{store.NotificationTarget{Kinds: []string{"delivery"}}, "delivery.settled", "frostline", "live", false},
		{store.NotificationTarget{Kinds: []string{"drift.found", "delivery.settled"}}, "delivery.settled", "frostline", "live", true},
		{store.NotificationTarget{Kinds: []string{"drift."}}, "delivery.settled", "frostline", "live", false},
		{store.NotificationTarget{Service: "frostline"}, "delivery.settled", "boxes", "live", false},
		{store.NotificationTarget{Service: "frostline", Stage: "live"}, "delivery.settled", "frostline", "trial", false},
		{store.NotificationTarget{Service: "frostline", Stage: "live"}, "delivery.settled", "frostline", "live", true},
	} {
		if got := tt.hook.Takes(tt.kind, tt.service, tt.stage); got != tt.want {
			t.Errorf("%+v takes %s of %s in %s: %v", tt.hook, tt.kind, tt.service, tt.stage, got)
		}
	}
	id, err := s.CreateNotificationTarget(ctx, store.NotificationTarget{Name: "chat", URL: "https://chat.example/in", Sealed: []byte("k"), Kinds: []string{"build."}, Person: "wren"})
	must(t, err)
	_, err = s.CreateNotificationTarget(ctx, store.NotificationTarget{Name: "chat", URL: "https://chat.example/other", Sealed: []byte("k"), Person: "wren"})
	is(t, "a second one of that name", err, store.ErrHookNamed)
	must(t, s.Within(ctx, func(tx store.Tx) error { return tx.Notify(ctx, "build.failed", "frostline", "", "failed", nil) }))
	hook, err := s.NotificationTarget(ctx, id)
	must(t, err)
	is(t, "ending it", s.DeleteNotificationTarget(ctx, hook, "wren"), nil)
	is(t, "twice", s.DeleteNotificationTarget(ctx, hook, "wren"), store.ErrNotFound)
	if list, err := s.Notifications(ctx, id, 10); err != nil || len(list) != 1 || list[0].State != store.NotificationFailed {
		t.Errorf("what was queued: %+v %v", list, err)
	}
	if due, err := s.DueNotifications(ctx); err != nil || len(due) != 0 {
		t.Errorf("what is due: %+v %v", due, err)
	}
}

func TestOneCopyPerPerson(t *testing.T) {
	s, clock, _ := open(t)
	ctx := t.Context()
	must(t, s.PutPerson(ctx, store.Person{Username: "wren", Granted: []rights.Grant{{Right: "author"}}, Password: "x"}, "", "user created"))
	withVersion(t, s, "one")
	mine := store.Copy{Place: manifest.PlaceOf("frostline", "trial", "local/north"), Username: "wren"}
	must(t, s.PutCopy(ctx, mine))
	made, err := s.Copy(ctx, "frostline", "wren")
	must(t, err)
	clock.add(time.Minute)
	must(t, s.PutCopy(ctx, mine)) // used again
	again, err := s.Copy(ctx, "frostline", "wren")
	if err != nil || !again.Made.Equal(made.Made) || !again.Used.After(made.Used) || again.Place != mine.Place {
		t.Errorf("%+v, %+v %v", made, again, err)
	}
	_, err = s.Copy(ctx, "frostline", "linden")
	is(t, "somebody else's", err, store.ErrNotFound)
	is(t, "taking it away", s.DropCopy(ctx, again, "wren", "done"), nil)
	if list, err := s.Copies(ctx); err != nil || len(list) != 0 {
		t.Errorf("%+v %v", list, err)
	}
}

func TestMissingObjects(t *testing.T) {
	s, _, _ := open(t)
	ctx := t.Context()
	number := withVersion(t, s, "one")
	if v, err := s.ListVersion(ctx, "frostline", number); err != nil || v.Number != number {
		t.Errorf("%+v %v", v, err)
	}
	_, err := s.ListVersion(ctx, "frostline", number+1)
	is(t, "a version", err, store.ErrNotFound)
	is(t, "a deployment that does not run", s.Cancel(ctx, 7), store.ErrMoved)
}
