package local_test

import (
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"rudmar/platform"
	"rudmar/platform/local"
)

// A missing or changed archive is detected at the start: its revision is shown without it, with another
// fingerprint, until it is uploaded again.
func TestMissingArchives(t *testing.T) {
	dir := t.TempDir()
	s, end := again(t, dir, time.Now)
	s.deploy("gone", "def run(call): return 'gone'\n", nil)
	s.deploy("flipped", "def run(call): return 'flipped'\n", nil)
	digests := map[string]string{}
	before, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	for _, r := range before.Resources {
		if r.Kind == "revision" {
			digests[r.Address], _ = r.Attributes["artifact"].(string)
		}
	}
	end()
	file := func(address string) string {
		return filepath.Join(dir, "artifacts", digests[address][len("sha256:"):]+".zip")
	}
	whole, err := os.ReadFile(file("revision/flipped"))
	must(t, err)
	flipped := append([]byte{}, whole...)
	flipped[len(flipped)/2] ^= 1
	must(t, errors.Join(os.Remove(file("revision/gone")),
		os.WriteFile(file("revision/flipped"), flipped, 0o600)))
	s, end = again(t, dir, time.Now)
	defer end()
	shown := func(address string) (string, string) {
		now, err := s.client.Snapshot(t.Context(), s.scope)
		must(t, err)
		for _, r := range now.Resources {
			if r.Address == address {
				return r.Attributes["artifact"].(string), now.Fingerprint
			}
		}
		return "?", now.Fingerprint
	}
	until(t, "both are shown without their archives", func() bool {
		one, _ := shown("revision/gone")
		two, fingerprint := shown("revision/flipped")
		return one == "" && two == "" && fingerprint != before.Fingerprint
	})
	must(t, s.client.PutArtifact(t.Context(), digests["revision/flipped"], whole))
	if one, _ := shown("revision/flipped"); one != digests["revision/flipped"] {
		t.Errorf("after it was put again it is shown with %q", one)
	}
	if err := s.client.PutArtifact(t.Context(), digests["revision/gone"], whole); err == nil {
		t.Error("another archive was taken under its digest")
	}
}

// A folder has one platform; the key of its secrets is not created again while something is encrypted with the
// lost one.
func TestPlatformFolderIsLocked(t *testing.T) {
	dir := t.TempDir()
	open := func() error {
		p, err := local.Open(t.Context(), local.Options{Dir: dir, Token: "t", Log: slog.New(slog.DiscardHandler)})
		if err == nil {
			t.Cleanup(func() { _ = p.Close() })
		}
		return err
	}
	s, end := again(t, dir, time.Now)
	if err := open(); !errors.Is(err, local.ErrTaken) {
		t.Errorf("a second platform on the folder: %v", err)
	}
	s.deploy("a", "def run(call): return 1\n", nil)
	if _, err := s.client.Put(t.Context(), s.scope, "grant/a/secrets/sms_key",
		platform.Change{Key: "s", Secrets: map[string]string{"value": "hush"},
			Attributes: map[string]any{"resource": "secrets/sms_key", "verbs": []any{"read"}, "value": "f"},
			Version:    3}); err != nil {
		t.Fatal(err)
	}
	end()
	must(t, os.Remove(filepath.Join(dir, "seal.key")))
	if err := open(); !errors.Is(err, local.ErrKeyGone) {
		t.Errorf("without its key: %v", err)
	}
}
