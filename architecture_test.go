package rudmar

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// imports has, per package folder, the imports of its files other than tests.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == "tools" ||
			strings.HasPrefix(d.Name(), ".") && path != "."):
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
		"cage":           {"cage", "outside"},
		"outside":        {},
		"bodytime":       {},
		"datadir":        {"datadir"},
		"sqlstmt":        {"sqlstmt"},
		"platform":       {"core", "platform"},
		"platform/local": {"core", "platform", "platform/local", "cage", "datadir", "sqlstmt", "bodytime"},
		"engine":         {"core", "platform", "engine", "starter", "cage", "datadir", "sqlstmt", "outside"},
		"server":         {"core", "platform", "engine", "server", "starter", "docs", "bodytime"},
		"demo":           {"core", "engine"},
		"cmd":            {"core", "platform", "platform/local", "engine", "server", "demo", "starter", "cage", "datadir"},
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

// The imports that packages about manifests can have from the core, and their importers: a reader who starts at
// the top of the table reads upwards only what is explained already.
func TestManifestPackages(t *testing.T) {
	rooms := []struct{ name, may string }{
		{"diagnostic", ""},
		{"tree", "diagnostic"},
		{"language", "diagnostic tree"},
		{"manifest", "diagnostic tree language route timing"},
		{"check", "diagnostic tree language manifest route timing access expression cores cases pack"},
		{"author", "diagnostic tree language manifest check expression resource"},
	}
	all := imports(t)
	for _, room := range rooms {
		dir := "core/" + room.name
		if len(all[dir]) == 0 {
			t.Errorf("there is no package %s", dir)
		}
		for _, name := range all[dir] {
			if own, found := strings.CutPrefix(name, "rudmar/core/"); found && !slices.Contains(strings.Fields(room.may), own) {
				t.Errorf("%s imports %s; it may import %q of the core", dir, own, room.may)
			}
		}
	}
	for dir, list := range all {
		for _, name := range list {
			own, found := strings.CutPrefix(name, "rudmar/core/")
			about := slices.ContainsFunc(rooms, func(r struct{ name, may string }) bool { return r.name == own })
			if found && strings.HasPrefix(dir, "platform") &&
				(about || own == "expand" || own == "plan" || own == "cases" || own == "delivery") {
				t.Errorf("%s imports %s: a platform knows no manifests", dir, name)
			}
			if strings.Contains(name, "yaml") && dir != "core/tree" {
				t.Errorf("%s imports %s: only core/tree knows YAML", dir, name)
			}
		}
	}
}

// The core reaches nothing outside.
func TestCoreIsPure(t *testing.T) {
	outside := []string{"net", "net/http", "os", "os/exec", "database/sql", "embed", "syscall", "log", "log/slog",
		"crypto/rand", "math/rand", "math/rand/v2"}
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

// SQL is in the stores only.
// Each package of the core says which calls can run concurrently.
func TestConcurrencyIsDocumented(t *testing.T) {
	packages, err := filepath.Glob("core/*")
	if err != nil || len(packages) < 20 {
		t.Fatal(packages, err)
	}
	for _, dir := range packages {
		files, err := filepath.Glob(dir + "/*.go")
		if err != nil {
			t.Fatal(err)
		}
		said := false
		for _, name := range files {
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			head, _, _ := strings.Cut(string(text), "\npackage ")
			said = said || strings.HasPrefix(head, "// Package ") && strings.Contains(head, "concurrent")
		}
		if !said {
			t.Errorf("%s does not say which calls can run concurrently", dir)
		}
	}
}

func TestSQLOnlyInStores(t *testing.T) {
	for dir, list := range imports(t) {
		if slices.Contains(list, "database/sql") && room(dir) != "sqlstmt" && dir != "dbtest" && dir != "engine/store" && dir != "platform/local" {
			t.Errorf("%s imports database/sql", dir)
		}
	}
}

// A migration of several statements would make a buffer for each of its lines.
func TestMigrationsAreSingleTransactions(t *testing.T) {
	block := regexp.MustCompile(`^-- \+goose Up\n-- \+goose StatementBegin\n(?s:.+)\n-- \+goose StatementEnd\n$`)
	files, err := filepath.Glob("*/*/migrations/*.sql")
	if err != nil || len(files) < 26 {
		t.Fatal(files, err)
	}
	for _, name := range files {
		if text, err := os.ReadFile(name); err != nil || !block.Match(text) || strings.Count(string(text), "+goose") != 3 {
			t.Errorf("%s is not one block: %v", name, err)
		}
	}
}

// Every file that docs/architecture.md sends a reader to is there.
func TestPackageMapIsCurrent(t *testing.T) {
	text, err := os.ReadFile("docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile(
		"`((?:core|engine|server|platform|web|docs|cmd|e2e)/[a-zA-Z0-9_./-]*)`").FindAllStringSubmatch(string(text), -1)
	for _, n := range named {
		if _, err := os.Stat(n[1]); err != nil {
			t.Errorf("docs/architecture.md names %s: %v", n[1], err)
		}
	}
	if len(named) < 40 {
		t.Errorf("only %d files were looked for", len(named))
	}
}

// docs/security.md lists the escape attempts, and a test carries out each.
func TestAttemptsAreListed(t *testing.T) {
	text, err := os.ReadFile("docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	var tests string
	for _, name := range []string{"platform/local/escape_test.go", "engine/escape_test.go"} {
		source, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		tests += string(source)
	}
	_, table, _ := strings.Cut(string(text), "| who | tries to |\n|---|---|\n")
	listed := map[string]bool{}
	for line := range strings.Lines(table) {
		cells := strings.Split(strings.Trim(line, "| \n"), " | ")
		if len(cells) != 2 {
			continue
		}
		name := cells[0] + ": " + cells[1]
		if cells[0] == "python" {
			name = cells[1]
		}
		listed[name] = true
		if !strings.Contains(tests, strconv.Quote(name)) {
			t.Errorf("docs/security.md lists %q, which no test tries", name)
		}
	}
	if len(listed) < 40 {
		t.Errorf("only %d attempts are listed", len(listed))
	}
	for _, found := range regexp.MustCompile(
		`(?:name: |\{|case )"((?:build|go|node): [^"]+)"|name: "([^"]+)"`).FindAllStringSubmatch(tests, -1) {
		if name := found[1] + found[2]; !listed[name] {
			t.Errorf("docs/security.md does not list %q", name)
		}
	}
}
