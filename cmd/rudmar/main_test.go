package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"rudmar/core/diagnostic"
)

// run runs the program's commands in this process.
func run(t *testing.T, args ...string) (string, error) {
	t.Helper()
	cmd := command()
	var out bytes.Buffer
	cmd.SetOut(&out)
	cmd.SetErr(&out)
	cmd.SetArgs(args)
	err := cmd.ExecuteContext(t.Context())
	return out.String(), err
}

func codeOf(err error) int {
	var c coded
	switch {
	case err == nil:
		return 0
	case errors.As(err, &c):
		return c.code
	}
	return exitFailed
}

// write writes a service into a folder.
func write(t *testing.T, function string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"shop/rudmar.yaml":         "rudmar: 1\nservice: shop\nstages: [{stage: trial, target: local/north, enter: {when: push}}]\n",
		"shop/order/function.yaml": function,
		"shop/order/main.py":       "def run(call): pass\n",
	} {
		file := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestCheck(t *testing.T) {
	good := write(t, "function: order\nhandler: main:run\n")
	if out, err := run(t, "check", good); err != nil || !strings.Contains(out, "1 function in 1 service, 0 problems") {
		t.Errorf("%v\n%s", err, out)
	}
	bad := write(t, "function: order\nhandler: main:run\ntimeout: 10\n")
	out, err := run(t, "check", bad)
	if codeOf(err) != exitProblem ||
		!strings.Contains(out, `shop/order/function.yaml:3:10: timeout: "10" has no unit`) ||
		!strings.Contains(out, "    3 | timeout: 10\n      |          ^^") {
		t.Errorf("%v\n%s", err, out)
	}
	out, err = run(t, "check", bad, "--format", "json")
	var list []diagnostic.Diagnostic
	if jsonErr := json.Unmarshal([]byte(out), &list); jsonErr != nil || codeOf(err) != exitProblem || len(list) != 1 ||
		list[0].Code != diagnostic.CodeUnit || list[0].Fix == nil {
		t.Errorf("%v %v\n%s", err, jsonErr, out)
	}
	for _, args := range [][]string{{"check", good, "--format", "yaml"}, {"check", "--explain", "RM0000"},
		{"check", "--nothing"}, {"platform", "change", "north", "function/a", "b=c", "--platform", "http://127.0.0.1:1"},
		{"user", "create", "x", "--role", "king"}} {
		if _, err := run(t, args...); codeOf(err) != exitUsage {
			t.Errorf("%v: %v", args, err)
		}
	}
	if _, err := run(t, "check", t.TempDir()); err == nil || !strings.Contains(err.Error(), "rudmar.yaml") {
		t.Errorf("an empty folder: %v", err)
	}
	if out, err := run(t, "check", "--explain", "RM1203"); err != nil ||
		!strings.Contains(out, "missing or wrong unit") || !strings.Contains(out, "timeout: 10s") {
		t.Errorf("%v\n%s", err, out)
	}
}

func TestCheckOfOneStage(t *testing.T) {
	dir := write(t, "function: order\nhandler: main:run\npermissions:\n  - {allow: [\"*\"], resource: tables/orders}\nper_stage:\n  trial: {memory: 7 MiB}\n")
	if err := os.WriteFile(filepath.Join(dir, "shop", "rudmar.yaml"),
		[]byte("rudmar: 1\nservice: shop\nstages:\n  - {stage: trial, target: local/nroth, enter: {when: push}}\n  - {stage: live, target: local/north, wildcards: forbid, enter: {after: trial}}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for stage, want := range map[string]string{"": "RM1205 RM1502 RM1608 (forbidden)", "trial": "RM1205 RM1502 RM1608",
		"live": "RM1502 (forbidden)"} {
		out, err := run(t, "check", dir, "--stage", stage)
		found := ""
		for _, code := range []string{"RM1205", "RM1502", "RM1608"} {
			if strings.Contains(out, "("+code+")") {
				found += " " + code
			}
		}
		if strings.Contains(out, "forbids wildcards)") {
			found += " (forbidden)"
		}
		if strings.TrimSpace(found) != want || codeOf(err) != exitProblem {
			t.Errorf("%q: %s, %v\n%s", stage, found, err, out)
		}
	}
	if _, err := run(t, "check", dir, "--stage", "moon"); codeOf(err) != exitUsage ||
		!strings.Contains(err.Error(), "expected trial, live") {
		t.Errorf("an unknown stage: %v", err)
	}
}

func TestFormat(t *testing.T) {
	const messy = "handler: main:run # the one\nfunction: order\n\n\nenv:\n    A: x\n"
	dir := write(t, messy)
	name := filepath.Join(dir, "shop", "order", "function.yaml")
	if out, err := run(t, "format", dir, "--check"); codeOf(err) != exitProblem ||
		!strings.Contains(out, "shop/order/function.yaml") {
		t.Errorf("looking: %v\n%s", err, out)
	}
	if text, _ := os.ReadFile(name); string(text) != messy {
		t.Errorf("looking wrote %q", text)
	}
	if _, err := run(t, "format", dir); err != nil {
		t.Error(err)
	}
	if text, _ := os.ReadFile(name); string(text) != "function: order\n\nhandler: main:run # the one\nenv:\n  A: x\n" {
		t.Errorf("it became %q", text)
	}
	if out, err := run(t, "format", dir, "--check"); err != nil || out != "" {
		t.Errorf("looking again: %v %s", err, out)
	}
	if err := os.WriteFile(name, []byte("function: [\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := run(t, "format", dir); codeOf(err) != exitProblem || !strings.Contains(out, "run rudmar check") {
		t.Errorf("a broken file: %v\n%s", err, out)
	}
}

func TestFlagsFromTheEnvironment(t *testing.T) {
	t.Setenv("RUDMAR_FORMAT", "json")
	if out, err := run(t, "check", write(t, "function: order\nhandler: main:run\n")); err != nil ||
		strings.TrimSpace(out) != "[]" {
		t.Errorf("%v\n%s", err, out)
	}
	t.Setenv("RUDMAR_OBSERVE_EVERY", "often")
	if _, err := run(t, "serve", "--data", t.TempDir()); codeOf(err) != exitUsage ||
		!strings.Contains(err.Error(), "RUDMAR_OBSERVE_EVERY") {
		t.Errorf("a broken variable: %v", err)
	}
	t.Setenv("RUDMAR_HANDLE", "wren")
	if _, err := run(t, "status", "frostline"); codeOf(err) != exitUsage ||
		!strings.Contains(err.Error(), "RUDMAR_HANDLE was renamed to RUDMAR_USERNAME") {
		t.Errorf("a former variable: %v", err)
	}
}

func TestUserCreate(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("RUDMAR_PASSWORD", "orchard-at-dawn")
	if _, err := run(t, "user", "create", "wren", "--data", dir, "--role", "approver", "--group", "council"); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "rudmar.db")); err != nil {
		t.Error(err)
	}
}

// parses returns an error if a line is not a valid use of a command; in a text, its arguments can
// be left out.
func parses(line string, whole bool) error {
	line, _, _ = strings.Cut(line, " #")
	words := wordsOfLine.FindAllString(line, -1)
	for i, w := range words {
		if w == "|" || w == ">" || strings.HasPrefix(w, "<") || w == "&&" || strings.HasPrefix(w, "2>") {
			words = words[:i]
			break
		}
		words[i] = strings.Trim(w, `"'`)
	}
	c, rest, err := command().Find(words[1:])
	if err != nil {
		return err
	}
	if err := c.ParseFlags(rest); err != nil && !errors.Is(err, pflag.ErrHelp) {
		return err
	}
	if c.HasSubCommands() && !c.Runnable() && c.Flags().NArg() > 0 {
		return fmt.Errorf("no such command")
	}
	if !whole && (c.Flags().NArg() == 0 || strings.Contains(line, "…")) {
		return nil
	}
	return errors.Join(c.ValidateArgs(c.Flags().Args()), c.ValidateRequiredFlags(), c.ValidateFlagGroups())
}

var (
	wordsOfLine = regexp.MustCompile(`'[^']*'|"[^"]*"|\S+`)
	inDocs      = regexp.MustCompile("(?m)^(?:\\$ )?(?:bin/)?(rudmar .*)$|`(?:bin/)?(rudmar [^`]*)`")
)

// Each command has an example, and the examples and the commands of the docs are valid.
func TestExamplesAreValid(t *testing.T) {
	list := examples()
	var walk func(c *cobra.Command, path string)
	walk = func(c *cobra.Command, path string) {
		for _, sub := range c.Commands() {
			below := strings.TrimSpace(path + " " + sub.Name())
			if !sub.Hidden && !sub.HasSubCommands() && !strings.HasPrefix(below, "completion") && !strings.Contains(sub.Example, "rudmar "+below) {
				t.Errorf("rudmar %s has no example", below)
			}
			delete(list, below)
			walk(sub, below)
		}
	}
	walk(command(), "")
	for path := range list {
		t.Errorf("an example is of %q, which is no command", path)
	}
	for _, text := range examples() {
		for line := range strings.Lines(text) {
			if err := parses(strings.TrimSpace(line), true); err != nil {
				t.Errorf("%s: %v", line, err)
			}
		}
	}
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(files) < 10 {
		t.Fatal(files, err)
	}
	seen := 0
	for _, file := range append(files, "../../README.md", "../../CONTRIBUTING.md", "../../CHANGELOG.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range inDocs.FindAllStringSubmatch(strings.ReplaceAll(string(text), "\n  ", " "), -1) {
			line := strings.Join(strings.Fields(m[1]+m[2]), " ")
			seen++
			if err := parses(line, false); err != nil {
				t.Errorf("%s: %s: %v", filepath.Base(file), line, err)
			}
		}
	}
	if seen < 60 {
		t.Errorf("only %d commands were found in the docs", seen)
	}
}

func TestAttributeValues(t *testing.T) {
	for _, tt := range []struct {
		name, text string
		want       any
	}{
		{"memory", "512MiB", int64(512 << 20)}, {"timeout", "5s", int64(5000)}, {"enabled", "false", false},
		{"max_concurrency", "3", 3.0}, {"handler", "a:b", "a:b"}, {"env.X", "5s", "5s"}, {"cron", "0 6 * * *", "0 6 * * *"},
	} {
		if got := attributeValue(tt.name, tt.text); got != tt.want {
			t.Errorf("%s=%s: %v (%T), want %v", tt.name, tt.text, got, got, tt.want)
		}
	}
}

func TestBusyAddressNamesItsFlag(t *testing.T) {
	l, err := listen("127.0.0.1:0", "--listen")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if _, err := listen(l.Addr().String(), "--listen"); err == nil || !strings.Contains(err.Error(), "--listen") {
		t.Errorf("a taken address: %v", err)
	}
}

// A server that is stopped is waited for, but not for ever.
func TestUnresponsiveServer(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	defer server.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	for _, ctx := range []context.Context{ctx, t.Context()} {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, server.URL, nil)
		if err != nil {
			t.Fatal(err)
		}
		timed, done := inTime(r)
		defer done()
		until, set := timed.Context().Deadline()
		if !set || time.Until(until) > answerFor {
			t.Errorf("it is waited for until %v", until)
		}
		if time.Until(until) > time.Minute {
			continue
		}
		if err := answer(r, nil); !errors.Is(err, context.DeadlineExceeded) || !strings.Contains(err.Error(), "is it running?") {
			t.Error(err)
		}
	}
}

func TestCheckFixes(t *testing.T) {
	dir := write(t, "function: order\nhandlr: mian:run\nenv:\n\tA: x\n")
	out, err := run(t, "check", dir, "--fix")
	if err != nil || !strings.Contains(out, "fixed function.yaml") &&
		!strings.Contains(out, "fixed order/function.yaml") || !strings.Contains(out, "0 problems") {
		t.Errorf("%v\n%s", err, out)
	}
	text, err := os.ReadFile(filepath.Join(dir, "shop/order/function.yaml"))
	if err != nil || string(text) != "function: order\nhandler: main:run\nenv:\n  A: x\n" {
		t.Errorf("mended to %q %v", text, err)
	}
	if out, err := run(t, "check", dir, "--format", "sarif"); err != nil || !strings.Contains(out, `"version": "2.1.0"`) {
		t.Errorf("%v\n%s", err, out)
	}
}

func TestRenderNewAndSchema(t *testing.T) {
	dir := filepath.Join(write(t, "function: order\nhandler: main:run\nmemory: 192 MiB\n"), "shop")
	out, err := run(t, "render", dir, "--stage", "trial")
	if err != nil || !strings.Contains(out, "function/order") || !strings.Contains(out, "192 MiB") ||
		!strings.Contains(out, "order/function.yaml:3 (function)") || !strings.Contains(out, "Rudmar default") {
		t.Errorf("%v\n%s", err, out)
	}
	if _, err := run(t, "render", dir, "--stage", "moon"); codeOf(err) != exitUsage {
		t.Errorf("a stage that is not: %v", err)
	}
	if out, err := run(t, "new", "function", "label", "--in", dir); err != nil || !strings.Contains(out, "main.py") {
		t.Fatalf("%v\n%s", err, out)
	}
	if out, err := run(t, "check", dir); err != nil || !strings.Contains(out, "2 functions in 1 service, 0 problems") {
		t.Errorf("%v\n%s", err, out)
	}
	if _, err := run(t, "new", "function", "label", "--in", dir); err == nil ||
		!strings.Contains(err.Error(), "function label already exists") {
		t.Errorf("twice: %v", err)
	}
	if _, err := run(t, "new", "function", "other", "--in", dir, "--runtime", "cobol"); codeOf(err) != exitUsage {
		t.Errorf("another runtime: %v", err)
	}
	var list []map[string]any
	if out, err := run(t, "render", dir, "--format", "json"); err != nil ||
		json.Unmarshal([]byte(out), &list) != nil || len(list) < 10 {
		t.Errorf("%v\n%s", err, out)
	}
	for _, kind := range []string{"service", "function", "case"} {
		if out, err := run(t, "schema", kind); err != nil || !strings.Contains(out, "2020-12") {
			t.Errorf("%s: %v\n%s", kind, err, out)
		}
	}
	if _, err := run(t, "schema", "stage"); codeOf(err) != exitUsage {
		t.Errorf("a schema of nothing: %v", err)
	}
}

// A data folder that others can read is restricted at the start, which is reported.
func TestDataFolderPermissions(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	for _, err := range []error{os.MkdirAll(filepath.Join(dir, "platform"), 0o755),
		os.WriteFile(filepath.Join(dir, "secret.key"), []byte("x"), 0o644),
		os.WriteFile(filepath.Join(dir, "platform", "platform.db"), []byte("x"), 0o664),
		os.MkdirAll(filepath.Join(dir, "platform", "compiled", "v1"), 0o755), // by a library, as it thinks fit
		os.WriteFile(filepath.Join(dir, "platform", "compiled", "v1", "x"), []byte("x"), 0o644),
		os.Symlink("/etc/hosts", filepath.Join(dir, "link"))} {
		if err != nil {
			t.Fatal(err)
		}
	}
	var said bytes.Buffer
	t.Chdir(filepath.Dir(dir))
	c := &config{data: "data"}
	if err := c.dataFolder(slog.New(slog.NewTextHandler(&said, nil))); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]os.FileMode{"": 0o700, "secret.key": 0o600, "platform": 0o700,
		"platform/platform.db": 0o600} {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Mode().Perm() != want {
			t.Errorf("%q: %v %v", name, info.Mode(), err)
		}
	}
	if info, err := os.Stat("/etc/hosts"); err != nil || info.Mode().Perm()&0o044 == 0 {
		t.Errorf("what a link leads to was changed: %v %v", info, err)
	}
	if !filepath.IsAbs(c.data) {
		t.Errorf("what runs in other folders is told %s", c.data)
	}
	if !strings.Contains(said.String(), "could read the data folder") || !strings.Contains(said.String(), "changed=4") {
		t.Errorf("it says %s", said.String())
	}
	said.Reset()
	if err := c.dataFolder(slog.New(slog.NewTextHandler(&said, nil))); err != nil || said.Len() > 0 {
		t.Errorf("repeat the password: %v %s", err, said.String())
	}
}

// Tokens and passwords come from files or the environment; no flag accepts one.
func TestNoFlagAcceptsASecret(t *testing.T) {
	for _, args := range [][]string{{"serve", "--platform-token", "t"},
		{"platform", "show", "a/b/c", "--platform-token", "t"}, {"plan", "frostline", "trial", "--password", "p"}} {
		if _, err := run(t, args...); codeOf(err) != exitUsage {
			t.Errorf("%v: %v", args, err)
		}
	}
	c := &config{data: t.TempDir(), tokenFile: filepath.Join(t.TempDir(), "none")}
	if token, err := c.token(); err == nil {
		t.Errorf("a file that does not exist gives %q", token)
	}
	t.Setenv("RUDMAR_PLATFORM_TOKEN", "by-environment")
	if token, err := c.token(); token != "by-environment" || err != nil {
		t.Errorf("%q %v", token, err)
	}
}
