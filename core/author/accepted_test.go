package author_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"

	"rudmar/core/author"
	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
)

var (
	// scalarAt finds values that are written on their key's line, in a block or in braces.
	scalarAt = regexp.MustCompile(`([a-z_]+): ("[^"]*"|[A-Z]+ /[^\s{},]*|[^\s{}\[\],"]+(?: MiB)?)`)
	// itemAt finds items of lists in brackets.
	itemAt = regexp.MustCompile(`[\[,] ?([a-z0-9/_-]+)[\],]`)
	// gapAt finds places for another key in braces.
	gapAt = regexp.MustCompile(`\{[a-z]`)
)

// errorsOf returns the errors of a service, without their places.
func errorsOf(files manifest.Folder, offers *check.Offers) map[string]bool {
	out := map[string]bool{}
	for _, d := range (check.Options{Offers: offers}).Service(files).Diagnostics {
		if d.Severity == diagnostic.Error {
			out[string(d.Code)+" "+d.Message] = true
		}
	}
	return out
}

// What is offered at random positions of the demo is accepted by the check: a value in place of the present one, and a
// key that its mapping can have.
func TestOffersAreAccepted(t *testing.T) {
	offers := &check.Offers{All: true, Of: map[string]check.Offer{"local": {
		Regions: []string{"north", "coast"}, Runtimes: []string{"python", "node", "go"}, Triggers: manifest.TriggerKinds(),
		Verbs: map[string][]string{"tables": {"read", "query", "write"}, "queues": {"send"}, "objects": {"read", "write"},
			"secrets": {"read"}}}}}
	rng := rand.New(rand.NewPCG(29, 6))
	tried, wrong := 0, ""
	for _, root := range []string{"../../demo/steps/01-first/frostline", "../../demo/canal/01-rows/watering", "../../examples/python", "../../examples/node", "../../examples/go"} {
		files, err := manifest.FromFS(os.DirFS(root))
		if err != nil {
			t.Fatal(err)
		}
		before := errorsOf(files, offers)
		service := check.Service(files).Service
		for _, name := range files.Files() {
			if path.Ext(name) != ".yaml" {
				continue
			}
			text, err := files.Read(name)
			if err != nil {
				t.Fatal(err)
			}
			lines := strings.Split(string(text), "\n")
			for i, line := range lines {
				try := func(from, to int, what, suffix string) {
					emptied := slices.Clone(lines)
					emptied[i] = line[:from] + line[to:]
					at := author.Cursor{File: name, Text: strings.Join(emptied, "\n"), Line: i + 1, Column: len([]rune(line[:from])) + 1}
					found := author.At(at, author.Names{Service: service, Offers: offers}).Completions
					rng.Shuffle(len(found), func(a, b int) { found[a], found[b] = found[b], found[a] })
					for _, c := range found[:min(len(found), 4)] {
						insert := c.Insert + suffix
						if what == "key" {
							insert = strings.TrimSuffix(strings.TrimSuffix(c.Insert, " "), ":") + ": " + suffix
						}
						switch {
						case what == "key" != (c.Kind == "key") || c.Kind == "reference":
							continue
						case strings.HasSuffix(c.Insert, "/") && c.Kind == "name": // the name follows
							insert += "other"
						case c.About != "" && c.Kind == "name" && strings.Contains(c.About, ": "):
							continue // a field of an expression, which continues
						}
						changed := slices.Clone(lines)
						changed[i] = line[:from] + insert + line[to:]
						tried++
						other := manifest.Overlay{Under: files, Changed: map[string][]byte{name: []byte(strings.Join(changed, "\n"))}}
						for problem := range errorsOf(other, offers) {
							about := what != "key" || strings.HasPrefix(problem, "RM1101") || strings.HasPrefix(problem, "RM1010") ||
								strings.HasPrefix(problem, "RM1105") || strings.HasPrefix(problem, "RM140") || strings.HasPrefix(problem, "RM1701 ")
							if !before[problem] && about && !elsewhere(problem) {
								wrong += fmt.Sprintf("%s:%d: %s\n    %s\n", name, i+1, changed[i], problem)
							}
						}
					}
				}
				for _, m := range scalarAt.FindAllStringSubmatchIndex(line, -1) {
					try(m[4], m[5], "value "+line[m[2]:m[3]], "")
				}
				for _, m := range itemAt.FindAllStringSubmatchIndex(line, -1) {
					try(m[2], m[3], "item", "")
				}
				for _, m := range gapAt.FindAllStringIndex(line, -1) {
					try(m[0]+1, m[0]+1, "key", "x, ")
				}
			}
		}
	}
	if t.Logf("%d offers", tried); tried < 100 || wrong != "" {
		t.Errorf("of %d offers the check refuses:\n%s", tried, wrong)
	}
}

// elsewhere reports whether a problem is that another place needs what the value was before.
func elsewhere(problem string) bool {
	for _, other := range []string{"is missing the key", "no file ", "sends to one of", "no route of", "does not say who can call it"} {
		if strings.Contains(problem, other) {
			return true
		}
	}
	return false
}
