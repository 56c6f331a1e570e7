// Command words checks the text that people read: page templates, strings in Go, documents,
// starters and the demo. It reports the phrases of words.txt and doubled words. With -since, it
// also checks the subjects of the commits after that one.
//
//	go run ./words -dir .. -since 1a2b3c4
package main

import (
	"bufio"
	"bytes"
	_ "embed"
	"errors"
	"flag"
	"fmt"
	"go/scanner"
	"go/token"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"unicode/utf8"
)

//go:embed words.txt
var list string

// errFound says that something was reported.
var errFound = errors.New("see the replacements; the list is tools/words/words.txt")

func main() {
	dir := flag.String("dir", ".", "root of the repository")
	since := flag.String("since", "", "commit after which subjects are checked")
	flag.Parse()
	if err := run(*dir, *since, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "words:", err)
		os.Exit(1)
	}
}

func run(dir, since string, out io.Writer) error {
	faults, err := parse(list)
	if err != nil {
		return err
	}
	names, err := git(dir, "ls-files", "-co", "--exclude-standard", "-z")
	if err != nil {
		return fmt.Errorf("listing files: %w", err)
	}
	found := 0
	for name := range strings.SplitSeq(names, "\x00") {
		if !isRead(name) {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, name))
		if errors.Is(err, os.ErrNotExist) { // deleted, not yet committed
			continue
		}
		if err != nil {
			return fmt.Errorf("reading a file: %w", err)
		}
		for _, l := range linesOf(name, text) {
			for _, problem := range faults.in(l.text) {
				found++
				fmt.Fprintf(out, "%s:%d: %s\n", name, l.number, problem)
			}
		}
	}
	subjects := ""
	if since != "" {
		if subjects, err = git(dir, "log", "--no-merges", "--format=%h %s", since+"..HEAD"); err != nil {
			fmt.Fprintf(out, "commit subjects are not checked: %s is not in this clone\n", since)
		}
	}
	for line := range strings.Lines(subjects) {
		hash, subject, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		if problem := subjectProblem(subject); problem != "" {
			found++
			fmt.Fprintf(out, "commit %s: %s: %q\n", hash, problem, subject)
		}
	}
	if found > 0 {
		return errFound
	}
	return nil
}

func git(dir string, args ...string) (string, error) {
	out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).Output()
	return string(out), err
}

var subject = regexp.MustCompile(`^[a-z0-9][a-z0-9/._-]*(, [a-z0-9/._-]+)*: [^A-Z ]`)

// subjectProblem returns what is wrong with the subject of a commit, or "".
func subjectProblem(text string) string {
	switch {
	case utf8.RuneCountInString(text) > 72:
		return "longer than 72 characters"
	case !subject.MatchString(text):
		return "expected \"area: what it does now\""
	case strings.HasSuffix(text, "."):
		return "ends with a period"
	}
	return ""
}

var (
	read   = regexp.MustCompile(`^(web/src/.*\.(vue|ts)|(cmd|server|engine|core|platform|cage|demo|starter|examples)/.*\.(go|yaml|md|py|mjs)|docs/[^/]*\.md|README\.md|CONTRIBUTING\.md)$`)
	unread = regexp.MustCompile(`_test\.go$|\.gen\.go$|schema\.d\.ts$|/testdata/`)
)

// isRead reports whether people read text of a file. Files named former* hold the former keys
// and texts that Rudmar translates.
func isRead(name string) bool {
	return read.MatchString(name) && !unread.MatchString(name) && !strings.HasPrefix(path.Base(name), "former")
}

type line struct {
	number int
	text   string
}

// linesOf returns the text of a file that people read, line by line: of Go its strings.
func linesOf(name string, text []byte) []line {
	var out []line
	if strings.HasSuffix(name, ".go") {
		files := token.NewFileSet()
		file := files.AddFile(name, -1, len(text))
		var s scanner.Scanner
		s.Init(file, text, nil, 0)
		for {
			at, kind, literal := s.Scan()
			if kind == token.EOF {
				return out
			}
			if kind == token.STRING {
				for i, l := range strings.Split(strings.Trim(literal, "\"`"), "\n") {
					out = append(out, line{files.Position(at).Line + i, l})
				}
			}
		}
	}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		out = append(out, line{n, lines.Text()})
	}
	return out
}

type fault struct {
	pattern     *regexp.Regexp
	replacement string
}

type faults []fault

// parse reads a list of faults.
func parse(text string) (faults, error) {
	var out faults
	for l := range strings.Lines(text) {
		l = strings.TrimSuffix(l, "\n")
		if l == "" || strings.HasPrefix(l, "#") {
			continue
		}
		expression, replacement, ok := strings.Cut(l, "\t")
		pattern, err := regexp.Compile(expression)
		if err != nil || !ok {
			return nil, fmt.Errorf("words.txt: %q: expected a regular expression, a tab and the replacement: %w", l, err)
		}
		out = append(out, fault{pattern, replacement})
	}
	return out, nil
}

var (
	word    = regexp.MustCompile(`^[a-z]{2,}$`)
	doubled = map[string]bool{"that": true, "had": true} // can be correct
)

// in returns the problems of a line.
func (f faults) in(text string) []string {
	var out []string
	for _, one := range f {
		if m := one.pattern.FindString(text); m != "" {
			out = append(out, fmt.Sprintf("%q; write: %s", m, one.replacement))
		}
	}
	words := strings.Fields(text)
	for i := 1; i < len(words); i++ {
		if w := strings.TrimRight(words[i], ".,;:)"); w == words[i-1] && word.MatchString(w) && !doubled[w] {
			out = append(out, fmt.Sprintf("%q is doubled", w))
		}
	}
	return out
}
