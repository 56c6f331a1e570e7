package main

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestFaultsAreFound(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"core/a.go":              "package a\n\n// What needs you is a comment.\nconst text = \"version 2 is went back in live\"\nvar n = `1 times\nthe the end`\n",
		"core/a_test.go":         "package a\n\nconst text = \"overtaken\"\n",
		"core/former.go":         "package a\n\nconst text = \"overtaken\"\n",
		"docs/x.md":              "# Fine\n\n13% of 128 MiB\n\nhad had, that that\n",
		"docs/decisions/0001.md": "overtaken\n",
		"web/src/pages/X.vue":    "<h2>What it means</h2>\n<p>{{ n }} % of it</p>\n",
	} {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	commit := func(subject string) {
		for _, args := range [][]string{{"add", "--all"}, {"-c", "user.name=wren", "-c", "user.email=wren@brambleford.example", "commit", "-q", "--allow-empty", "-m", subject}} {
			if out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput(); err != nil {
				t.Fatal(err, string(out))
			}
		}
	}
	if out, err := exec.Command("git", "init", "-q", dir).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	commit("First")
	commit("deliver: roll back on latency regression")
	commit("Deliver what was promised")
	commit("deliver: " + strings.Repeat("a", 80))
	var out bytes.Buffer
	if err := run(dir, "HEAD~3", &out); !errors.Is(err, errFound) {
		t.Errorf("%v", err)
	}
	var places []string
	for line := range strings.Lines(out.String()) {
		place, _, _ := strings.Cut(line, ": ")
		if hash, found := strings.CutPrefix(place, "commit "); found {
			place = "commit " + strings.Repeat("h", min(len(hash), 1))
		}
		places = append(places, place)
	}
	const want = "core/a.go:4 core/a.go:4 core/a.go:5 core/a.go:6 web/src/pages/X.vue:1 web/src/pages/X.vue:2 commit h commit h"
	if got := strings.Join(places, " "); got != want {
		t.Errorf("%s\nnot %s\n%s", got, want, out.String())
	}
	out.Reset()
	if err := run(dir, "nosuch", &out); !errors.Is(err, errFound) || !strings.Contains(out.String(), "not in this clone") {
		t.Errorf("%v: %s", err, out.String())
	}
}
