package local

import (
	"bytes"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// No secret is in the platform's folder in the clear, including revisions and pending operations, and values
// encrypted for one scope cannot be decrypted in another.
func TestSecretsAreEncrypted(t *testing.T) {
	dir := t.TempDir()
	s, err := openStore(t.Context(), dir)
	must(t, err)
	trial, actual := scope{"north", "frostline", "trial"}, scope{"north", "frostline", "live"}
	sealed := s.sealed(trial, `{"env.KEY":"plum-and-pear"}`)
	if strings.Contains(sealed, "plum") {
		t.Errorf("it is open: %s", sealed)
	}
	if got, err := s.unsealedSecrets(trial, sealed); err != nil || got["env.KEY"] != "plum-and-pear" {
		t.Errorf("%v %v", got, err)
	}
	if got, err := s.unsealedSecrets(actual, sealed); err == nil {
		t.Errorf("it opens elsewhere: %v", got)
	}
	if got, err := s.unsealedSecrets(trial, sealed[:len(sealed)-4]+"AAA="); err == nil {
		t.Errorf("it opens though it was changed: %v", got)
	}
	// What an earlier platform kept openly is encrypted at the next start.
	if _, err := s.db.Exec(
		`INSERT INTO kept_secrets (region, service, stage, name, value) VALUES ('north', 'frostline', 'trial', 'old', 'plum-and-pear')`); err != nil {
		t.Fatal(err)
	}
	must(t, s.db.Close())
	if s, err = openStore(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	var kept string
	must(t, s.db.QueryRow(`SELECT value FROM kept_secrets WHERE name = 'old'`).Scan(&kept))
	if got, err := s.unsealed(trial, kept); err != nil || got != "plum-and-pear" || !strings.HasPrefix(kept, sealedMark) {
		t.Errorf("the old one: %q %q %v", kept, got, err)
	}
	must(t, s.db.Close())
	must(t, os.WriteFile(filepath.Join(dir, sealKeyFile), bytes.Repeat([]byte{7}, 5), 0o600))
	if _, err := openStore(t.Context(), dir); err == nil || !strings.Contains(err.Error(), sealKeyFile) {
		t.Errorf("a key that is none: %v", err)
	}
}

// After a deployment and a change by hand, no file of the platform holds the value.
func TestSecretsAreNotWritten(t *testing.T) {
	dir := t.TempDir()
	p, err := Open(t.Context(), Options{Dir: dir, Token: "secret"})
	must(t, err)
	sc := scope{"north", "frostline", "trial"}
	for address, attributes := range map[string]map[string]any{"identity/warn": {"owner": "x"},
		"logs/warn": {"retention": 3_600_000.0}} {
		if _, err := p.put(t.Context(), sc, address, changeRequest{Key: address, Attributes: attributes}); err != nil {
			t.Fatal(err)
		}
	}
	secret := map[string]string{"env.KEY": "plum-and-pear"}
	attributes := map[string]any{"runtime": "python", "handler": "main:run", "memory": 128.0 * (1 << 20),
		"timeout": 5000.0, "max_concurrency": 1.0, "env.KEY": "fingerprint"}
	if _, err := p.put(t.Context(), sc, "function/warn",
		changeRequest{Key: "f", Attributes: attributes, Secrets: secret}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.operations.begin(t.Context(), sc, "function/warn",
		changeRequest{Key: "o", Attributes: attributes, Secrets: secret}); err != nil {
		t.Fatal(err)
	}
	if got, err := p.store.secrets(t.Context(), sc, "function/warn"); err != nil || got["env.KEY"] != "plum-and-pear" {
		t.Errorf("%v %v", got, err)
	}
	must(t, p.Close())
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "platform.db")+"?_pragma=wal_checkpoint(TRUNCATE)")
	must(t, err)
	defer db.Close()
	files := 0
	err = filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		files++
		text, err := os.ReadFile(name)
		if bytes.Contains(text, []byte("plum-and-pear")) {
			t.Errorf("%s holds the secret", name)
		}
		return err
	})
	if err != nil || files < 2 {
		t.Errorf("%d files, %v", files, err)
	}
}
