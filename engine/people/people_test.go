package people_test

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/rights"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

const password = "orchard-at-dawn"

func directory(t *testing.T) (*people.Directory, *store.Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(t.Context(), dir, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	d, err := people.Open(s, dir, true)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Add(t.Context(), people.NewUser{Username: "wren", Role: rights.Author, Password: password}, ""); err != nil {
		t.Fatal(err)
	}
	return d, s, dir
}

func TestSigningIn(t *testing.T) {
	d, _, _ := directory(t)
	ctx := t.Context()
	for _, wrong := range [][2]string{{"wren", "wrong"}, {"nobody", password}, {"", ""}, {"wren", ""}} {
		if _, _, err := d.SignIn(ctx, wrong[0], wrong[1], "192.0.2.1"); !errors.Is(err, people.ErrSignIn) {
			t.Errorf("%v: %v", wrong, err)
		}
	}
	token, session, err := d.SignIn(ctx, "wren", password, "192.0.2.1")
	if err != nil || len(token) < 40 || len(session.CSRF) < 30 {
		t.Fatalf("%q %+v %v", token, session, err)
	}
	if p, _, err := d.Session(ctx, token); err != nil || p.Username != "wren" {
		t.Errorf("%+v %v", p, err)
	}
	if _, _, err := d.Session(ctx, token+"x"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another token: %v", err)
	}
	if err := d.SignOut(ctx, token); err != nil {
		t.Fatal(err)
	}
	if _, _, err := d.Session(ctx, token); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("after signing out: %v", err)
	}
	// A password that was right before is wrong once it is changed.
	if _, err := d.Check(ctx, "wren", password); err != nil {
		t.Fatal(err)
	}
	if err := d.Add(ctx, people.NewUser{Username: "wren", Role: rights.Author, Password: "meadow-at-dusk"}, ""); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Check(ctx, "wren", password); !errors.Is(err, people.ErrSignIn) {
		t.Errorf("the old password: %v", err)
	}
}

func TestSecretsAreEncrypted(t *testing.T) {
	d, s, dir := directory(t)
	ctx := t.Context()
	if err := s.AddRepository(ctx, "r", "wren"); err != nil {
		t.Fatal(err)
	}
	if err := s.AddService(ctx, store.Service{Name: "frostline", Repository: "r", Dir: "."}, true, "wren"); err != nil {
		t.Fatal(err)
	}
	if err := d.SetSecret(ctx, "frostline", "live", "key", "very-hidden", "wren"); err != nil {
		t.Fatal(err)
	}
	got, err := d.Secrets(ctx, "frostline", "live")
	if err != nil || got["key"] != "very-hidden" {
		t.Errorf("%v %v", got, err)
	}
	rows, err := s.Secrets(ctx, "frostline", "live")
	if err != nil || len(rows) != 1 || string(rows[0].Value) == "very-hidden" {
		t.Errorf("kept as %v %v", rows, err)
	}
	// A value that is moved to another stage manually does not open there.
	if err := s.PutSecret(ctx, "frostline", "trial", rows[0]); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Secrets(ctx, "frostline", "trial"); err == nil {
		t.Error("a secret of another stage was opened")
	}
	info, err := os.Stat(filepath.Join(dir, "secret.key"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key's file: %v %v", info.Mode(), err)
	}
	again, err := people.Open(s, dir, true)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Secrets(ctx, "frostline", "live"); err != nil || got["key"] != "very-hidden" {
		t.Errorf("opened again: %v %v", got, err)
	}
}

// TestGuessingIsThrottled guesses passwords by username and by address: the first few are checked, then each
// wrong one extends the wait, for existing and unknown usernames alike. The right password works from another
// address.
func TestGuessingIsThrottled(t *testing.T) {
	now := time.Unix(1_700_000_000, 0)
	s, err := store.Open(t.Context(), t.TempDir(), func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	d, err := people.Open(s, t.TempDir(), true)
	if err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	for _, username := range []string{"wren", "linden"} {
		if err := d.Add(ctx, people.NewUser{Username: username, Role: rights.Author, Password: password}, ""); err != nil {
			t.Fatal(err)
		}
	}
	guess := func(username, password, address string) string {
		_, err := d.Enter(ctx, username, password, address)
		var slow *people.SlowError
		switch {
		case err == nil:
			return "in"
		case errors.As(err, &slow):
			return "slow"
		case errors.Is(err, people.ErrSignIn):
			return "wrong"
		}
		return err.Error()
	}
	for _, username := range []string{"wren", "nobody"} {
		got := ""
		for range 8 {
			got += guess(username, "a-wrong-password", "192.0.2."+username) + " "
		}
		if want := "wrong wrong wrong wrong wrong wrong slow slow "; got != want {
			t.Errorf("%s: %s, want %s", username, got, want)
		}
	}
	if got := guess("wren", password, "198.51.100.7"); got != "slow" {
		t.Errorf("the right password while the handle is slowed: %s", got)
	}
	now = now.Add(2 * time.Second)
	if got := guess("wren", password, "198.51.100.7"); got != "in" {
		t.Errorf("the right password afterwards: %s", got)
	}
	for i := range 25 { // one address tries many usernames
		guess("h"+string(rune('a'+i)), "a-wrong-password", "203.0.113.9")
	}
	if got := guess("linden", "a-wrong-password", "203.0.113.9"); got != "slow" {
		t.Errorf("an address that guesses: %s", got)
	}
	if got := guess("linden", password, "192.0.2.77"); got != "in" {
		t.Errorf("from another address: %s", got)
	}
	entries, err := s.Journal(ctx, "", true, store.Part{Limit: 100}, store.Entry{})
	if err != nil || len(entries) < 20 || entries[0].What != "sign-in failed" {
		t.Errorf("the journal: %+v %v", entries, err)
	}
}

// Attempts at the same time count as much as one after the other; strangers do not lock out somebody who comes from
// where they have signed in before; a closed account takes as long as an open one.
func TestGuessingInParallel(t *testing.T) {
	d, s, _ := directory(t)
	ctx := t.Context()
	_, _, err := d.SignIn(ctx, "wren", password, "192.0.2.1")
	must(t, err)
	enter := func(username, password, address string) error {
		_, err := d.Enter(ctx, username, password, address)
		return err
	}
	var wrong, slow atomic.Int32
	var group sync.WaitGroup
	for i := range 60 {
		group.Go(func() {
			var wait *people.SlowError
			switch err := enter("wren", fmt.Sprintf("a-wrong-password-%d", i), fmt.Sprintf("198.51.100.%d", i)); {
			case errors.As(err, &wait):
				slow.Add(1)
			case errors.Is(err, people.ErrSignIn):
				wrong.Add(1)
			default:
				t.Error(err)
			}
		})
	}
	group.Wait()
	if wrong.Load() > 6 || wrong.Load()+slow.Load() != 60 {
		t.Errorf("of 60 parallel attempts %d were checked", wrong.Load())
	}
	must(t, d.Change(ctx, "wren", "", "as it was", func(*store.Person) error { return nil })) // nothing is cached
	if err := enter("wren", password, "192.0.2.1"); err != nil {
		t.Errorf("from a known address while a stranger guesses: %v", err)
	}
	must(t, d.Change(ctx, "wren", "", "closed", func(p *store.Person) error { p.Closed = true; return nil }))
	fastest := func(username string) time.Duration {
		least := time.Hour
		for i := range 3 {
			begun := time.Now()
			_, err := d.Check(ctx, username, fmt.Sprint("a-wrong-password", i))
			if least = min(least, time.Since(begun)); !errors.Is(err, people.ErrSignIn) {
				t.Errorf("%s: %v", username, err)
			}
		}
		return least
	}
	if closed, nobody := fastest("wren"), fastest("nobody"); closed < nobody/3 || nobody < closed/3 {
		t.Errorf("a closed account takes %s, an unknown one %s", closed, nobody)
	}
	_ = s
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func TestCallersBehindProxies(t *testing.T) {
	for _, tt := range []struct{ trusted, remote, header, want string }{
		{"", "10.0.0.2:5", "192.0.2.7", "10.0.0.2"},
		{"10.0.0.0/8", "10.0.0.2:5", "192.0.2.7", "192.0.2.7"},
		{"10.0.0.0/8", "10.0.0.2:5", "6.6.6.6, 192.0.2.7, 10.0.0.9", "192.0.2.7"}, // what a caller writes is left
		{"10.0.0.0/8", "198.51.100.3:5", "192.0.2.7", "198.51.100.3"},
		{"10.0.0.0/8", "127.0.0.1:5", "192.0.2.7", "127.0.0.1"},
	} {
		var proxies []netip.Prefix
		if tt.trusted != "" {
			proxies = append(proxies, netip.MustParsePrefix(tt.trusted))
		}
		r := httptest.NewRequest("GET", "/", http.NoBody)
		r.RemoteAddr = tt.remote
		r.Header.Set("X-Forwarded-For", tt.header)
		if got := people.AddressesBehind(proxies)(r); got != tt.want {
			t.Errorf("%+v: %s", tt, got)
		}
	}
}

func TestOwnPasswordAndSessions(t *testing.T) {
	now := time.Unix(1_700_000_000, 0)
	s, err := store.Open(t.Context(), t.TempDir(), func() time.Time { return now })
	must(t, err)
	defer s.Close()
	d, err := people.Open(s, t.TempDir(), true)
	must(t, err)
	ctx := t.Context()
	must(t, d.Add(ctx, people.NewUser{Username: "wren", Role: rights.Author, Password: password}, ""))
	for _, weak := range []string{"aaaaaaaaaaaaaaaa", "password1234", "passwordpassword", "wren-in-the-orchard", "qwertyuiop12", "123456789012", "short"} {
		if err := d.ChangePassword(ctx, "wren", password, weak, "192.0.2.1"); !errors.Is(err, people.ErrWeakPassword) &&
			!errors.Is(err, people.ErrPassword) {
			t.Errorf("%s: %v", weak, err)
		}
	}
	if err := d.ChangePassword(ctx, "wren", "another-one-here", "meadow-at-dusk", "192.0.2.1"); !errors.Is(err, people.ErrSignIn) {
		t.Errorf("with a wrong present password: %v", err)
	}
	one, _, err := d.SignIn(ctx, "wren", password, "192.0.2.1")
	must(t, err)
	two, _, err := d.SignIn(ctx, "wren", password, "192.0.2.2")
	must(t, err)
	list, err := s.Sessions(ctx, "wren")
	if err != nil || len(list) != 2 || list[0].Address != "192.0.2.2" {
		t.Fatalf("%v: %+v", err, list)
	}
	if err := d.EndSession(ctx, "linden", list[0].ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another's session was ended: %v", err)
	}
	must(t, d.EndSession(ctx, "wren", list[0].ID))
	if _, _, err := d.Session(ctx, two); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an ended session: %v", err)
	}
	for range 5 { // requests keep it
		now = now.Add(store.IdleLength - time.Minute)
		_, session, err := d.Session(ctx, one)
		must(t, err)
		must(t, s.UseSession(ctx, session))
	}
	now = now.Add(store.IdleLength)
	if _, _, err := d.Session(ctx, one); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an idle session: %v", err)
	}
	three, _, err := d.SignIn(ctx, "wren", password, "192.0.2.1")
	must(t, err)
	must(t, d.ChangePassword(ctx, "wren", password, "meadow-at-dusk", "192.0.2.1"))
	if _, _, err := d.Session(ctx, three); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a session after the password was changed: %v", err)
	}
}

// TestWhoCanEndASession closes accounts and changes passwords: their sessions end, and listeners are notified.
func TestWhoCanEndASession(t *testing.T) {
	d, s, _ := directory(t)
	ctx := t.Context()
	for name, change := range map[string]func() error{
		"password": func() error { return d.SetPassword(ctx, "wren", password, "linden") },
		"closed": func() error {
			return d.Change(ctx, "wren", "linden", "user closed", func(p *store.Person) error { p.Closed = true; return nil })
		},
	} {
		if err := d.Add(ctx, people.NewUser{Username: "wren", Role: rights.Author, Password: password}, ""); err != nil {
			t.Fatal(err)
		}
		token, _, err := d.SignIn(ctx, "wren", password, "192.0.2.1")
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		wake, stop := d.Listen()
		if err := change(); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		select {
		case <-wake:
		default:
			t.Errorf("%s: nobody was told", name)
		}
		stop()
		if _, _, err := d.Session(ctx, token); err == nil {
			t.Errorf("%s: the session goes on", name)
		}
		if _, err := d.Check(ctx, "wren", password); (err == nil) != (name == "password") {
			t.Errorf("%s: signing in: %v", name, err)
		}
	}
	for _, w := range []people.NewUser{
		{Username: "Wren!", Role: rights.Author, Password: password}, {Username: "sorrel", Role: "king", Password: password},
		{Username: "sorrel", Role: rights.Author, Password: "eleven-char"},
		{Username: "sorrel", Role: rights.Author, Password: ""},
	} {
		if err := d.Add(ctx, w, ""); err == nil {
			t.Errorf("%+v was taken", w)
		}
	}
	if err := d.SetPassword(ctx, "nobody", password, ""); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a password for nobody: %v", err)
	}
	if list, err := s.People(ctx); err != nil || len(list) != 1 {
		t.Errorf("%+v %v", list, err)
	}
}
