package source_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Small packs that hold very much are refused, in words, and quickly.
func TestPushesHaveLimits(t *testing.T) {
	h, address, _ := host(t)
	address = strings.Replace(address, "http://", "http://wren:right@", 1)
	git := func(dir, in string, args ...string) string {
		t.Helper()
		cmd := exec.Command("git", args...)
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(in)
		cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@x.invalid", "GIT_COMMITTER_NAME=a",
			"GIT_COMMITTER_EMAIL=a@x.invalid", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0")
		var out, said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &said
		if err := cmd.Run(); err != nil && args[0] != "push" {
			t.Fatalf("git %v: %v %s", args, err, said.String())
		}
		return strings.TrimSpace(out.String() + said.String())
	}
	for _, tt := range []struct {
		name string
		tree func(dir string) string // creates a tree, and returns its ID
		want string
	}{
		{"many files in few objects", func(dir string) string {
			id := git(dir, "x", "hash-object", "-w", "--stdin")
			kind, mode := "blob", "100644"
			for range 6 { // ten names for one tree, six levels deep: a million files
				var entries strings.Builder
				for i := range 10 {
					fmt.Fprintf(&entries, "%s %s %s\tn%d\n", mode, kind, id, i)
				}
				id, kind, mode = git(dir, entries.String(), "mktree"), "tree", "040000"
			}
			return id
		}, "more than 100000 files"},
		{"a large file that packs small", func(dir string) string {
			if err := os.WriteFile(filepath.Join(dir, "big"), make([]byte, 80<<20), 0o600); err != nil {
				t.Fatal(err)
			}
			return git(dir, "100644 blob "+git(dir, "", "hash-object", "-w", "big")+"\tbig\n", "mktree")
		}, "a file of 80 MiB"},
		{"a long path", func(dir string) string {
			id := git(dir, "x", "hash-object", "-w", "--stdin")
			kind, mode := "blob", "100644"
			for range 8 {
				id = git(dir, mode+" "+kind+" "+id+"\t"+strings.Repeat("n", 200)+"\n", "mktree")
				kind, mode = "tree", "040000"
			}
			return id
		}, "a path of 1607 bytes"},
		{"one that is fine", func(dir string) string {
			return git(dir, "100644 blob "+git(dir, "x", "hash-object", "-w", "--stdin")+"\tx\n", "mktree")
		}, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			dir := t.TempDir()
			git(dir, "", "init", "--quiet")
			commit := git(dir, "", "commit-tree", "-m", "all of it", tt.tree(dir))
			out := git(dir, "", "push", address+"/brambleford.git", commit+":refs/heads/try")
			if tt.want == "" && strings.Contains(out, "rejected") || !strings.Contains(out, tt.want) {
				t.Errorf("git says: %s", out)
			}
			heads, err := h.Repository("brambleford").Heads(t.Context())
			if taken := len(heads) > 0; err != nil || taken != (tt.want == "") {
				t.Errorf("taken: %v %v", heads, err)
			}
		})
	}
}
