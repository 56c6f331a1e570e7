package people_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"rudmar/engine/people"
	"rudmar/engine/store"
)

func directory(t *testing.T) (*people.Directory, *store.Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(t.Context(), dir, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	d, err := people.Open(s, dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Add(t.Context(), "wren", people.Author, "orchard"); err != nil {
		t.Fatal(err)
	}
	return d, s, dir
}

func TestSigningIn(t *testing.T) {
	d, _, _ := directory(t)
	ctx := t.Context()
	for _, wrong := range [][2]string{{"wren", "wrong"}, {"nobody", "orchard"}, {"", ""}, {"wren", ""}} {
		if _, _, err := d.SignIn(ctx, wrong[0], wrong[1]); !errors.Is(err, people.ErrSignIn) {
			t.Errorf("%v: %v", wrong, err)
		}
	}
	token, session, err := d.SignIn(ctx, "wren", "orchard")
	if err != nil || len(token) < 40 || len(session.CSRF) < 30 {
		t.Fatalf("%q %+v %v", token, session, err)
	}
	if p, _, err := d.Session(ctx, token); err != nil || p.Handle != "wren" {
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
	if _, err := d.Check(ctx, "wren", "orchard"); err != nil {
		t.Fatal(err)
	}
	if err := d.Add(ctx, "wren", people.Author, "meadow"); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Check(ctx, "wren", "orchard"); !errors.Is(err, people.ErrSignIn) {
		t.Errorf("the old password: %v", err)
	}
}

func TestAbilities(t *testing.T) {
	may := map[string]string{people.Author: "write deploy try", people.Approver: "deploy approve try", people.Reader: ""}
	for role, want := range may {
		got := ""
		for _, a := range []people.Ability{people.Write, people.Deploy, people.Approve, people.Try} {
			if people.May(store.Person{Handle: "x", Role: role}, a) == nil {
				if got != "" {
					got += " "
				}
				got += string(a)
			}
		}
		if got != want {
			t.Errorf("%s may %q, want %q", role, got, want)
		}
	}
	if err := people.May(store.Person{}, people.Try); !errors.Is(err, people.ErrAbility) {
		t.Errorf("nobody: %v", err)
	}
}

func TestSecretsAreSealed(t *testing.T) {
	d, s, dir := directory(t)
	ctx := t.Context()
	if err := s.AddRepository(ctx, "r"); err != nil {
		t.Fatal(err)
	}
	if err := s.AddService(ctx, store.Service{Name: "frostline", Repository: "r", Dir: "."}); err != nil {
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
	// A value that is moved to another stage by hand does not open there.
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
	again, err := people.Open(s, dir)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Secrets(ctx, "frostline", "live"); err != nil || got["key"] != "very-hidden" {
		t.Errorf("opened again: %v %v", got, err)
	}
}
