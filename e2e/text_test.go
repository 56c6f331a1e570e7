package e2e

import (
	"encoding/json"
	"flag"
	"maps"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write the text of pages and commands to testdata/text.txt")

// texts are lines that people read, each with the first place of its occurrence.
type texts map[string]string

// What differs from run to run is replaced: times, hashes, numbers and with them plurals.
var (
	hashes    = regexp.MustCompile(`\b(sha256:)?[0-9a-f]{8,}\b|\b[cr]-[0-9a-f]{6,}\b|127\.0\.0\.\d(:\d+)?`)
	numbers   = regexp.MustCompile(`\d+([.,:]\d+)*`)
	units     = regexp.MustCompile(`\bN ?(ms|s|min|h|d|days?|KiB|MiB|GiB|KB)\b`)
	plurals   = regexp.MustCompile(`\bN ([a-z-]+[a-rt-z])s\b`)
	dates     = regexp.MustCompile(`\b(Mon|Tue|Wed|Thu|Fri|Sat|Sun)\w*\b,?|\b(Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)\b`)
	durations = regexp.MustCompile(`U( U)+`)
)

func (t texts) add(place, text string) {
	for line := range strings.Lines(text) {
		line = strings.NewReplacer(", cold start", "", "just now", "1 s ago").Replace(strings.Join(strings.Fields(line), " "))
		line = numbers.ReplaceAllString(hashes.ReplaceAllString(line, "H"), "N")
		line = durations.ReplaceAllString(units.ReplaceAllString(line, "U"), "U")
		line = dates.ReplaceAllString(plurals.ReplaceAllString(line, "N $1"), "D")
		passing := strings.HasSuffix(line, "…") || line == "connecting" || line == "following" || strings.HasSuffix(line, "the pN") || strings.HasPrefix(line, "Rolled back: ")
		if _, known := t[line]; !known && !passing && strings.ContainsFunc(line, func(r rune) bool { return r >= 'a' && r <= 'z' }) {
			t[line] = place
		}
	}
}

// text collects the text of a page once it no longer changes: of its elements, and the text for screen readers
// and pointers.
func (p *tab) text(place string) texts {
	p.Helper()
	var now, before texts
	same, enough := 0, 15
	if *update {
		enough = 60 // late text is in the file
	}
	until(p.T, "the text of "+place+" is complete", func() bool {
		found := p.page.Timeout(patience).MustEval(`() => JSON.stringify([...document.querySelectorAll(
			'h1, h2, h3, h4, label, legend, th, dt, summary, button, option, p, li, .nav-link, .btn, .alert, .quiet, .word, [aria-label], [title], [placeholder]')]
			.filter((e) => !e.closest('.cm-editor, .lines, .docs-text'))
			.flatMap((e) => [e.innerText ?? '', e.getAttribute('aria-label') ?? '', e.getAttribute('title') ?? '', e.getAttribute('placeholder') ?? '']))`).Str()
		var list []string
		if err := json.Unmarshal([]byte(found), &list); err != nil {
			p.Fatal(err)
		}
		now = texts{}
		for _, text := range list {
			now.add(place, text)
		}
		if same++; !maps.Equal(now, before) {
			before, same = now, 0
		}
		return same >= enough
	})
	return now
}

// helps collects the help of a command and its subcommands.
func helps(t *testing.T, all texts, command ...string) {
	t.Helper()
	cmd := exec.Command(build(t), append(command, "--help")...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %v %s", command, err, out)
	}
	text := string(out)
	all.add("rudmar "+strings.Join(command, " "), text)
	_, list, _ := strings.Cut(text, "Available Commands:\n")
	list, _, _ = strings.Cut(list, "\n\n")
	for line := range strings.Lines(list) {
		if name := strings.Fields(line)[0]; name != "help" && name != "completion" {
			helps(t, all, append(slices.Clone(command), name)...)
		}
	}
}

const textFile = "testdata/text.txt"

// knownText returns the lines of the file.
func knownText(t *testing.T) texts {
	t.Helper()
	text, err := os.ReadFile(textFile)
	if err != nil {
		t.Fatal(err)
	}
	known := texts{}
	for line := range strings.Lines(string(text)) {
		known[strings.TrimSuffix(line, "\n")] = textFile
	}
	return known
}

// without returns the lines that another collection does not have.
func (t texts) without(other texts) texts {
	out := maps.Clone(t)
	maps.DeleteFunc(out, func(line, _ string) bool { return other[line] != "" })
	return out
}

// TestText compares the text of all pages and commands of the demo with testdata/text.txt, where a
// change of wording shows. Go through the difference with -update and read it like a reader.
func TestText(t *testing.T) {
	r := demo(t)
	all := texts{}
	helps(t, all)
	for _, command := range []string{"status frostline", "plan frostline live 3", "plan frostline preview", "drift list frostline",
		"delivery show frostline 7 preview", "version list frostline", "version show 7 frostline", "version compare 6 7 frostline", "deployment list frostline", "deployment show 1",
		"build list frostline", "service list", "repository list", "output list frostline trial", "secret list frostline live",
		"notification list", "token list", "drift list nosuch", "status nosuch"} {
		cmd := exec.Command(build(t), append(strings.Fields(command), "--server", r.address)...)
		cmd.Env = append(os.Environ(), "RUDMAR_USERNAME=teasel", "RUDMAR_PASSWORD=orchard-at-dawn", "HOME="+t.TempDir())
		out, _ := cmd.CombinedOutput() // a failed command prints why
		all.add("rudmar "+command, string(out))
	}
	p := r.open(browse(t), "teasel")
	known := texts{}
	if !*update {
		known = knownText(t)
	}
	for _, path := range append(pages(), "deliveries/7/preview") { // once more with its viewer
		p.arrive(path)
		found := p.text(path)
		if !*update && len(found.without(known)) > 0 { // new text stays: it was not a passing moment
			p.arrive(path)
			again := p.text(path)
			maps.DeleteFunc(found, func(line, _ string) bool { return again[line] == "" })
		}
		maps.Copy(all, found)
	}
	if *update {
		if err := os.WriteFile(textFile, []byte(strings.Join(slices.Sorted(maps.Keys(all)), "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		known = knownText(t)
	}
	for _, line := range slices.Sorted(maps.Keys(all.without(known))) {
		t.Errorf("%s: new text; read it, then run this test with -update: %s", all[line], line)
	}
	for line, place := range all {
		words := strings.Fields(line)
		for i := range max(0, len(words)-3) {
			if words[i] == "in" && words[i+2] == "in" && words[i+1] == words[i+3] {
				t.Errorf("%s: %q repeats itself", place, line)
			}
		}
	}
	if gone := len(known.without(all)); gone > len(known)/50 { // a few depend on the moment
		t.Errorf("%d of %d lines of %s are gone; run this test with -update", gone, len(known), textFile)
	}
}
