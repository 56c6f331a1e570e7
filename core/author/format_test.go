package author_test

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"testing"

	"rudmar/core/author"
)

func TestFormat(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"order and comments",
			"# first of all\n\n# what runs\nhandler: warn:run   # the one\nfunction: warn\n\n\n\nmemory: 128 MiB\n",
			"# first of all\n\nfunction: warn\n\n# what runs\nhandler: warn:run   # the one\nmemory: 128 MiB\n"},
		{"levels", "function: warn\nhandler: warn:run\ntriggers:\n    # asked\n    ask:\n          route: GET /a   \n          open_to:\n          - growers\n          -   vets\npermissions:\n- allow: [read]\n  resource: tables/a\n-   allow: [send,\n          receive]\n    resource: queues/b\n",
			"function: warn\nhandler: warn:run\ntriggers:\n  # asked\n  ask:\n    route: GET /a\n    open_to:\n      - growers\n      -   vets\npermissions:\n  - allow: [read]\n    resource: tables/a\n  - allow: [send,\n            receive]\n    resource: queues/b\n"},
		{"texts", "function: warn\ndescription: |\n    two  \n\n      lines\nhandler: warn:run\nenv:\n      A: >-\n        folded\n        text\n      B: x\n",
			"function: warn\ndescription: |\n    two  \n\n      lines\nhandler: warn:run\nenv:\n  A: >-\n    folded\n    text\n  B: x\n"},
		{"line ends", "function: warn\r\nhandler: warn:run\r\n\r\n", "function: warn\nhandler: warn:run\n"},
	} {
		got, err := author.Format("functions/warn/function.yaml", []byte(c.text))
		if err != nil || string(got) != c.want {
			t.Errorf("%s: %v\n got %q\nwant %q", c.name, err, got, c.want)
		}
	}
	for _, text := range []string{"", "function: [", "- a\n", "a: &x 1\n", "a: 1\na: 2\n"} {
		if got, err := author.Format("rudmar.yaml", []byte(text)); !errors.Is(err, author.ErrUnformattable) {
			t.Errorf("%q became %q, %v", text, got, err)
		}
	}
}

// comments lists a text's comments on lines of their own.
func comments(text []byte) []string {
	var out []string
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "#") {
			out = append(out, line)
		}
	}
	slices.Sort(out)
	return out
}

// FuzzFormat expects that a formatted file keeps its comments, has the same diagnostics, and does not change
// when it is formatted again.
func FuzzFormat(f *testing.F) {
	f.Add(service)
	f.Add(warn)
	f.Add("function: a\n# one\nenv:\n # two\n A: |\n   # not a comment\n\n  # three\nhandler: a:b # four\n")
	f.Add("a:\n- - b\n  - c\n- {d: [\n  e]}\n? f\n: g\n")
	f.Fuzz(func(t *testing.T, text string) {
		once, err := author.Format("f/function.yaml", []byte(text))
		if err != nil {
			if !errors.Is(err, author.ErrUnformattable) {
				t.Fatal(err)
			}
			return
		}
		if a, b := comments([]byte(text)), comments(once); !slices.Equal(a, b) {
			t.Fatalf("comments %q became %q", a, b)
		}
		twice, err := author.Format("f/function.yaml", once)
		if err != nil || !bytes.Equal(once, twice) {
			t.Fatalf("%q became %q, then %q, %v", text, once, twice, err)
		}
	})
}
