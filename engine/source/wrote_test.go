package source_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"rudmar/engine/source"
)

// For each file with a single author commit, git blame agrees for each line: over histories with created,
// changed, moved, deleted and merged files.
func TestAuthorship(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 4))
	once, lines := 0, 0
	for range 3 {
		dir := t.TempDir()
		do := func(args ...string) string {
			t.Helper()
			out, err := git(t, dir, args...)
			if err != nil {
				t.Fatalf("git %v: %v %s", args, err, out)
			}
			return out
		}
		do("init", "-q", "-b", "main", ".")
		names := []string{"rows/a", "rows/b", "rows/deep/c", "rows/d", "elsewhere/e", "f"}
		write := func(name, text string) {
			full := filepath.Join(dir, name)
			if err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, []byte(text), 0o600)); err != nil {
				t.Fatal(err)
			}
		}
		text := func() string {
			out := ""
			for n := range 6 {
				out += fmt.Sprintf("line %d of %d\n", n, random.IntN(1000))
			}
			return out
		}
		for step := range 25 {
			name, other := names[random.IntN(len(names))], names[random.IntN(len(names))]
			there := strings.Fields(do("ls-files"))
			switch {
			case random.IntN(6) == 0 && slices.Contains(there, name) && !slices.Contains(there, other):
				write(other, "") // its folder
				do("mv", "-f", name, other)
			case random.IntN(8) == 0 && slices.Contains(there, name):
				do("rm", "-q", name)
			case random.IntN(8) == 0 && step > 3: // two sides, joined manually
				do("checkout", "-q", "-b", fmt.Sprint("side", step), "HEAD~1")
				write(fmt.Sprint("rows/side", step), text())
				do("add", "--all")
				do("commit", "-q", "-m", fmt.Sprint("side ", step))
				do("checkout", "-q", "main")
				do("merge", "-q", "--no-commit", "--no-ff", fmt.Sprint("side", step))
				write(name, text())
			default:
				write(name, text())
			}
			do("add", "--all")
			do("commit", "-q", "--allow-empty", "-m", fmt.Sprint("change ", step))
		}
		repository := source.At(filepath.Join(dir, ".git"))
		for _, folder := range []string{"rows", "."} {
			found, err := repository.WrittenOnce(t.Context(), "main", folder)
			if err != nil {
				t.Fatal(err)
			}
			for _, name := range strings.Fields(do("ls-files")) {
				hash, told := found[name]
				if !told {
					continue
				}
				c, err := repository.Commit(t.Context(), hash)
				if err != nil {
					t.Fatal(err)
				}
				wrote, err := repository.Lines(t.Context(), "main", name, []int{1, 3, 6})
				if err != nil {
					t.Fatal(err)
				}
				once++
				for n, by := range wrote {
					lines++
					if by.Hash != c.Hash || by.Message != c.Message || by.Author != c.Author || !by.At.Equal(c.At) {
						t.Errorf("%s:%d is from %+v, not %+v\n%s", name, n, by, c, do("log", "--oneline", "--name-status", "-c", "-M"))
					}
				}
			}
		}
	}
	if once < 10 || lines < 30 {
		t.Errorf("only %d files and %d lines were tried", once, lines)
	}
}
