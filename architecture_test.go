package rudmar

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// imports gives, per package folder, what its files other than tests import.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == "tools" || strings.HasPrefix(d.Name(), ".") && path != "."):
			return filepath.SkipDir
		case !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go"):
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range file.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			dir := filepath.ToSlash(filepath.Dir(path))
			out[dir] = append(out[dir], name)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func room(pkg string) string {
	first, _, _ := strings.Cut(pkg, "/")
	if strings.HasPrefix(pkg, "platform/local") {
		return "platform/local"
	}
	return first
}

// Imports go downwards only.
func TestImportsGoDownwards(t *testing.T) {
	may := map[string][]string{
		"core":           {"core"},
		"platform":       {"core", "platform"},
		"platform/local": {"core", "platform", "platform/local"},
		"engine":         {"core", "platform", "engine", "starter"},
		"server":         {"core", "platform", "engine", "server", "starter"},
		"demo":           {"core", "engine"},
		"cmd":            {"core", "platform", "platform/local", "engine", "server", "demo", "starter"},
	}
	seen := 0
	for dir, list := range imports(t) {
		for _, name := range list {
			own, found := strings.CutPrefix(name, "rudmar/")
			if !found {
				continue
			}
			seen++
			if !slices.Contains(may[room(dir)], room(own)) {
				t.Errorf("%s imports %s: %s may import %v", dir, name, room(dir), may[room(dir)])
			}
		}
	}
	if seen < 50 {
		t.Errorf("only %d imports were looked at", seen)
	}
}

// The core reaches nothing outside.
func TestTheCoreOnlyComputes(t *testing.T) {
	outside := []string{"net", "net/http", "os", "os/exec", "database/sql", "embed", "syscall", "log", "log/slog", "crypto/rand", "math/rand", "math/rand/v2"}
	for dir, list := range imports(t) {
		if !strings.HasPrefix(dir, "core/") {
			continue
		}
		for _, name := range list {
			if slices.Contains(outside, name) || strings.Contains(name, "labstack") || strings.Contains(name, "sqlite") {
				t.Errorf("%s imports %s", dir, name)
			}
		}
	}
}

// SQL stands in the stores only.
func TestOnePlaceForSQL(t *testing.T) {
	for dir, list := range imports(t) {
		if slices.Contains(list, "database/sql") && dir != "engine/store" && dir != "platform/local" {
			t.Errorf("%s imports database/sql", dir)
		}
	}
}
