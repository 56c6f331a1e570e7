package people_test

import (
	"errors"
	"os"
	"path/filepath"
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
	entries, err := s.Journal(ctx, "", store.Part{Limit: 100}, store.Entry{})
	if err != nil || len(entries) < 20 || entries[0].What != "sign-in failed" {
		t.Errorf("the journal: %+v %v", entries, err)
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
