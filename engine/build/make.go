package build

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"rudmar/cage"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/starter"
)

// Limits of the build commands of one function.
const (
	maxMaking = 10 * time.Minute
	maxOutput = 1 << 20 // bytes of output that are stored
)

// ErrCommand reports a failed build command.
var ErrCommand = errors.New("the command failed")

// recipe describes how a function's archive is built from its sources.
type recipe struct {
	fetch    [][]string        // commands that fetch the dependencies from registries
	commands [][]string        // commands that build it, without a network
	network  bool              // commands can reach public addresses nevertheless
	adds     map[string]string // files that are added if they are missing
	writes   map[string]string // files that are always written
	only     string            // the only file of the archive; "" for all
	env      []string
	offline  []string // environment of commands, besides env: the location of fetched files
	// locked returns why the sources do not determine the build; nil if they do.
	locked func([]pack.Entry) error
}

// Paths during the build of a function.
const (
	codeFolder = cage.Scratch + "/code"
	homeFolder = cage.Scratch + "/home"
)

// commandsFor returns the recipe that turns a function's sources into its archive: its own commands, or the
// default of its runtime. It is empty for sources that need no build. The files of a lock file are fetched
// first, also for own commands that use the tool.
func commandsFor(fn *manifest.Function, has func(name string) bool) (recipe, error) {
	config := fn.At("")
	m := recipe{network: config.Build.Network}
	for _, line := range config.Build.Run {
		m.commands = append(m.commands, []string{"/bin/sh", "-ec", line})
	}
	own := len(m.commands) > 0
	calls := func(tool string) bool {
		return own && slices.ContainsFunc(config.Build.Run, func(line string) bool { return strings.Contains(line, tool) })
	}
	pip := []string{"/usr/bin/python3", "-m", "pip"}
	quiet := []string{"--quiet", "--no-input", "--disable-pip-version-check", "--requirement", requirementsFile}
	switch config.Runtime.V {
	case "python":
		switch {
		case !has(requirementsFile):
		case !own:
			m.fetch = [][]string{slices.Concat(pip, []string{"install", "--no-compile", "--target", "."}, quiet)}
			m.locked = unpinned
		case calls("pip"):
			m.fetch = [][]string{slices.Concat(pip, []string{"download", "--dest", homeFolder + "/wheels"}, quiet)}
			m.offline = []string{"PIP_NO_INDEX=1", "PIP_FIND_LINKS=" + homeFolder + "/wheels"}
		}
	case "node":
		npm := []string{"npm", "ci", "--ignore-scripts", "--no-audit", "--no-fund"}
		switch {
		case !has("package-lock.json"):
		case !own:
			m.fetch = [][]string{append(npm, "--omit=dev")}
		case calls("npm"):
			m.fetch = [][]string{npm}
			m.offline = []string{"npm_config_offline=true"}
		}
	case "go":
		_, handler, _ := strings.Cut(config.Handler.V, ":")
		files, err := starter.GoFiles()
		if err != nil {
			return m, err
		}
		worker, err := starter.GoWorker(handler)
		if err != nil {
			return m, err
		}
		m.adds, m.writes, m.only = files, map[string]string{"rudmar_worker_wasip1.go": worker}, "main.wasm"
		m.env = goEnvironment()
		if has("go.sum") {
			m.fetch = [][]string{{"go", "mod", "download"}}
		}
		m.commands = append(m.commands, goBuild())
	}
	return m, nil
}

// goEnvironment and goBuild compile Go functions.
func goEnvironment() []string {
	return []string{"GOOS=wasip1", "GOARCH=wasm", "GOFLAGS=-mod=readonly", "GOTOOLCHAIN=local"}
}

func goBuild() []string {
	return []string{"go", "build", "-buildmode=c-shared", "-trimpath", "-buildvcs=false",
		"-ldflags=-s -w -buildid=", "-o", "main.wasm", "."}
}

// nothing reports whether the sources are packed unchanged.
func (m recipe) nothing() bool { return len(m.commands) == 0 && len(m.fetch) == 0 }

// String lists all inputs, so any change of the recipe builds a new archive.
func (m recipe) String() string {
	out := fmt.Sprint(m.fetch, m.commands, m.network, m.env, m.offline, m.only)
	for _, files := range []map[string]string{m.adds, m.writes} {
		for _, name := range slices.Sorted(maps.Keys(files)) {
			out += "\x00" + name + "\x00" + files[name]
		}
	}
	return out
}

// sources returns all source files of a function.
func (m recipe) sources(entries []pack.Entry) []pack.Entry {
	named := map[string]int{}
	out := slices.Clone(entries)
	for i, e := range out {
		named[e.Path] = i
	}
	for _, name := range slices.Sorted(maps.Keys(m.adds)) {
		if _, there := named[name]; !there {
			out = append(out, pack.Entry{Path: name, Content: []byte(m.adds[name])})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.writes)) {
		e := pack.Entry{Path: name, Content: []byte(m.writes[name])}
		if i, there := named[name]; there {
			out[i] = e
		} else {
			out = append(out, e)
		}
	}
	return out
}

// goes reports whether a built file belongs to the archive: not hidden files and folders, and not excluded
// ones.
func (m recipe) goes(name string, leaveOut []string) bool {
	if m.only != "" {
		return name == m.only
	}
	for part := range strings.SplitSeq(name, "/") {
		if strings.HasPrefix(part, ".") || part == "__pycache__" {
			return false
		}
	}
	return !pack.Exclude(leaveOut, name)
}

// limited forwards a limited number of bytes, and keeps the newest of them.
type limited struct {
	to   io.Writer
	left int
	tail []byte
}

func (l *limited) Write(p []byte) (int, error) {
	l.tail = append(l.tail, p...)
	if over := len(l.tail) - 2000; over > 0 {
		l.tail = l.tail[over:]
	}
	switch n := min(len(p), l.left); {
	case n > 0:
		l.left -= n
		if _, err := l.to.Write(p[:n]); err != nil {
			return 0, err
		}
		if l.left == 0 {
			fmt.Fprintf(l.to, "\n(the rest is omitted: a command can write %d KiB)\n", maxOutput>>10)
		}
	}
	return len(p), nil
}

// begin starts the output of another command.
func (l *limited) begin(left int) { l.left, l.tail = left, nil }

// errorLine returns the decisive line of a command's output: the first of the newest that names a place in a
// file, else the last that names an error, else the last one.
func (l *limited) errorLine() string { return errorLine(string(l.tail)) }

var (
	placeLine   = regexp.MustCompile(`^\s*(File "[^"]+", line \d+|[^\s:]+\.[a-z]{1,5}:\d+(:\d+)?[:)]?\s)`)
	problemLine = regexp.MustCompile(
		`(?i)\b(error|errors|undefined|cannot|could not|not found|no such|no matching|failed|denied|missing|exception|unable)\b|\bERR!|E[A-Z]{4,}\b`)
	idleLine = regexp.MustCompile(
		`(?i)complete log of this run|^\[notice\]|^npm notice|^npm (error|ERR!) code |^\s*npm (error|ERR!)\s*$|debug-0\.log|^make: \*\*\*|^Traceback `)
)

func errorLine(text string) string {
	var place, problem, last string
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line == "" || idleLine.MatchString(line) {
			continue
		}
		last = line
		if place == "" && placeLine.MatchString(line+" ") && !strings.HasPrefix(line, "File ") {
			place = line
		}
		if problemLine.MatchString(line) {
			problem = line
		}
	}
	switch {
	case place != "":
		return place
	case problem != "":
		return problem
	}
	return last
}
