package source_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"rudmar/engine/source"
)

// pushRef makes a commit in a clone and pushes it to a reference by its name.
func pushRef(t *testing.T, address, ref string) (out string, hash string, err error) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "clone")
	own := strings.Replace(address, "http://", "http://wren:right@", 1) + "/brambleford.git"
	if out, err := git(t, t.TempDir(), "clone", "--quiet", own, dir); err != nil {
		t.Fatal(out)
	}
	if err := os.WriteFile(filepath.Join(dir, "other.txt"), []byte("otherwise\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"add", "--all"}, {"commit", "-qm", "another"}} {
		if out, err := git(t, dir, args...); err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
	}
	hash, _ = git(t, dir, "rev-parse", "HEAD")
	out, err = git(t, dir, "push", "origin", "HEAD:"+ref)
	return out, strings.TrimSpace(hash), err
}

// taken returns a host whose repository brambleford accepted a valid push, and its newest commit.
func taken(t *testing.T) (h *source.Host, address string, head source.Commit) {
	t.Helper()
	h, address, _ = host(t)
	if out, err := pushFiles(t, address, "wren", "main", sound()); err != nil {
		t.Fatal(out)
	}
	head, err := h.Repository("brambleford").Commit(t.Context(), "refs/heads/main")
	if err != nil {
		t.Fatal(err)
	}
	return h, address, head
}

// TestOnlyBranchesAndTags pushes references that would make git read something else than a commit's content.
func TestOnlyBranchesAndTags(t *testing.T) {
	h, address, head := taken(t)
	r := h.Repository("brambleford")
	for _, ref := range []string{"refs/replace/" + head.Hash, "refs/notes/commits",
		"refs/rudmar/x", "refs/keep-around/1"} {
		if out, _, err := pushRef(t, address, ref); err == nil || !strings.Contains(out, "neither a branch nor a tag") {
			t.Errorf("%s: %v\n%s", ref, err, out)
		}
	}
	if out, _, err := pushRef(t, address, "refs/tags/v1"); err != nil {
		t.Errorf("a tag: %s", out)
	}
	// One that exists for another reason changes nothing that is read.
	out, hash, err := pushRef(t, address, "refs/heads/side")
	if err != nil {
		t.Fatal(out)
	}
	bare := filepath.Join(h.Dir(), "brambleford.git")
	if out, err := git(t, bare, "update-ref", "refs/replace/"+head.Hash, hash); err != nil {
		t.Fatal(out)
	}
	folder, err := r.Folder(t.Context(), head.Hash, ".")
	if err != nil || strings.Contains(strings.Join(folder.Files(), " "), "other.txt") {
		t.Errorf("a commit was read as another: %v %v", folder.Files(), err)
	}
}

// TestHooksCannotBeReplaced plants hooks in every place where git might look: none of them is run, and Rudmar's
// own are.
func TestHooksCannotBeReplaced(t *testing.T) {
	h, address, _ := host(t)
	ran := filepath.Join(t.TempDir(), "ran")
	evil := []byte("#!/bin/sh\necho ran > " + ran + "\nexit 0\n")
	bare := filepath.Join(h.Dir(), "brambleford.git")
	for _, name := range []string{"pre-receive", "update", "post-receive", "post-update",
		"reference-transaction", "proc-receive"} {
		file := filepath.Join(bare, "hooks", name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, evil, 0o755)); err != nil {
			t.Fatal(err)
		}
	}
	own := h.Dir() + ".hooks"
	if info, err := os.Stat(own); err != nil || info.Mode().Perm() != 0o500 {
		t.Errorf("the folder of hooks: %v %v", info.Mode(), err)
	}
	_ = os.Chmod(own, 0o700)
	for _, name := range []string{"pre-receive", "post-receive"} {
		_ = os.Remove(filepath.Join(own, name))
		if err := os.WriteFile(filepath.Join(own, name), evil, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	broken := sound()
	broken["frostline/functions/warn/function.yaml"] = "function: warn\n"
	if out, err := pushFiles(t, address, "wren", "main", broken); err == nil {
		t.Errorf("a broken push was taken: %s", out)
	}
	if out, err := pushFiles(t, address, "wren", "main", sound()); err != nil {
		t.Errorf("a sound one: %s", out)
	}
	if _, err := os.Stat(ran); !errors.Is(err, os.ErrNotExist) {
		t.Error("a hook that somebody planted was run")
	}
}

// TestServiceOfAnotherRepositoryIsRejected pushes a service that belongs elsewhere.
func TestServiceOfAnotherRepositoryIsRejected(t *testing.T) {
	_, address, _ := host(t)
	files := sound()
	files["watering/rudmar.yaml"] = strings.Replace(root, "frostline", "watering", 1)
	for _, branch := range []string{"main", "feature"} {
		out, err := pushFiles(t, address, "wren", branch, files)
		if err == nil || !strings.Contains(out,
			"the service watering belongs to the repository elsewhere, so brambleford cannot contain it; rename it in watering/rudmar.yaml, or move it") {
			t.Errorf("%s: %v\n%s", branch, err, out)
		}
	}
}

// TestWhoMovedABranch reads the signed-in user, regardless of commit authors.
func TestWhoMovedABranch(t *testing.T) {
	h, _, head := taken(t)
	r := h.Repository("brambleford")
	hash, err := r.Apply(t.Context(),
		source.Change{Branch: "main", Base: head.Hash, Message: "m", Author: "linden", Email: "l@x.invalid",
			Files: map[string][]byte{"a": []byte("b")}})
	if err != nil {
		t.Fatal(err)
	}
	moves, err := r.Moves(t.Context(), "main")
	if err != nil || len(moves) != 2 || moves[0].Before != source.Nothing || moves[0].After != head.Hash ||
		moves[0].Person != "wren" || moves[1].Person != "linden" || moves[1].After != hash {
		t.Errorf("%+v %v", moves, err)
	}
	between, err := r.Between(t.Context(), head.Hash, hash)
	if err != nil || len(between) != 1 || between[0] != hash {
		t.Errorf("%v %v", between, err)
	}
	if all, err := r.Between(t.Context(), strings.Repeat("1", 40), hash); err != nil || len(all) != 2 {
		t.Errorf("from a commit that does not exist: %v %v", all, err)
	}
}

// TestGitErrorsShowNoPaths makes git fail in ways that print paths.
func TestGitErrorsShowNoPaths(t *testing.T) {
	h, address, _ := host(t)
	if out, err := pushFiles(t, address, "wren", "main", sound()); err != nil {
		t.Fatal(out)
	}
	r := h.Repository("brambleford")
	dir := h.Dir()
	lock := filepath.Join(dir, "brambleford.git", "refs", "heads", "main.lock")
	if err := os.WriteFile(lock, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	head, err := r.Commit(t.Context(), "refs/heads/main")
	if err != nil {
		t.Fatal(err)
	}
	_, err = r.Apply(t.Context(),
		source.Change{Branch: "main", Base: head.Hash, Message: "m", Author: "wren", Email: "w@x.invalid",
			Files: map[string][]byte{"a": []byte("b")}})
	if err == nil || strings.Contains(err.Error(), dir) {
		t.Errorf("a lock that is held: %v", err)
	}
	if out, err := pushFiles(t, address, "wren", "main", map[string]string{"x.txt": "y"}); err == nil ||
		strings.Contains(out, dir) {
		t.Errorf("a push meets a lock: %v\n%s", err, out)
	}
	if _, err := r.Folder(t.Context(), strings.Repeat("1", 40), "."); err == nil || strings.Contains(err.Error(), dir) {
		t.Errorf("a commit that is not: %v", err)
	}
	if _, err := source.At(filepath.Join(dir, "nowhere.git")).Heads(t.Context()); err == nil ||
		strings.Contains(err.Error(), dir) {
		t.Errorf("a repository that is not: %v", err)
	}
}

// TestRedactionAcrossWrites splits a text at every position around a secret.
func TestRedactionAcrossWrites(t *testing.T) {
	const text, secret, want = "error in /srv/data/x.git and /srv/data; /srv/dat", "/srv/data",
		"error in ........./x.git and .........; /srv/dat"
	for cut := range len(text) {
		for second := cut; second < len(text); second++ {
			if got := source.Hide(secret, text[:cut], text[cut:second], text[second:]); got != want {
				t.Fatalf("cut at %d and %d: %q", cut, second, got)
			}
		}
	}
}
