package check_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"

	"rudmar/core/check"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// mistake is a sound service with one wrong line.
type mistake struct {
	what  string
	files manifest.Overlay
	file  string
	line  int // from 1 on
}

var keyed = regexp.MustCompile(`^(\s*(?:- )?\{?)([a-z_]+): (.+)$`)

// wrongValues are values that a key cannot have, by its present value.
func wrongValues(key, value string) []string {
	switch {
	case strings.Contains(value, "{") || strings.HasSuffix(value, "}") || strings.HasPrefix(value, "["):
		return []string{"7.5.1", value + " }", strings.TrimRight(value, "]}")}
	case key == "memory":
		return []string{"100", "1 MiB", "900 GiB", "much"}
	case key == "timeout" || key == "every" || key == "log_retention":
		return []string{"5", "-5s", "9000d", "soon"}
	case key == "cron":
		return []string{`"61 * * * *"`, `"* * *"`, "never"}
	case key == "zone":
		return []string{"Europe/Osl", "CET+1"}
	case key == "handler":
		return []string{"lost:run", "run", "../x:run", "null"}
	case key == "runtime" || key == "when":
		return []string{"rubby", "[]", "null"}
	case key == "target":
		return []string{"local", "[]", "local/nowhere"}
	case key == "function" || key == "service" || key == "stage" || key == "trigger":
		return []string{"A B", "-x", "null", "[]"}
	case key == "case" || key == "description" || key == "owner":
		return []string{"[a]", "{a: b}", `"open`}
	case value == "true" || value == "false":
		return []string{"yes please", "[]", "2"}
	case regexp.MustCompile(`^\d+$`).MatchString(value):
		return []string{"many", "-1", "99999999999", "[]"}
	}
	return nil
}

// mistakesOf makes every mistake that the mutator knows in a service.
func mistakesOf(t *testing.T, files manifest.Folder) (out []mistake) {
	known := map[string]bool{}
	l := language.New()
	for _, file := range []string{language.ServiceFile, language.FunctionFile, "cases/a.yaml"} {
		var walk func(s *language.Shape)
		walk = func(s *language.Shape) {
			if s == nil {
				return
			}
			for _, k := range s.Keys {
				known[k.Name] = true
				walk(k.Shape)
			}
			walk(s.Of)
		}
		walk(l.Of(file))
	}
	for _, name := range files.Files() {
		if path.Ext(name) != ".yaml" {
			continue
		}
		text, err := files.Read(name)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
		add := func(i int, what, now string) {
			changed := slices.Clone(lines)
			changed[i] = now
			other := manifest.Overlay{Under: files, Changed: map[string][]byte{name: []byte(strings.Join(changed, "\n") + "\n")}}
			out = append(out, mistake{fmt.Sprintf("%s:%d %s: %s", name, i+1, what, now), other, name, i + 1})
		}
		for i, line := range lines {
			for _, reference := range []string{"settings.", "secrets.", "functions."} {
				if strings.Contains(line, "${"+reference) {
					add(i, "an unknown reference", strings.Replace(line, "${"+reference, "${"+reference+"zz-", 1))
				}
			}
			for from, to := range map[string]string{"GET /": "GET ", "resource: tables/": "resource: tabels/", "allow: [": "allow: [fly, ",
				"open_to: anyone": "open_to: [anyone, x]", "send: {": "send: {trigger: lost, ", "after: ": "after: lost-", "cases: all": "cases: some",
				"status == ": "status = ", "body.": "body.(", "{count: ": "{count: -", "type: number": "type: nummer", "when: ": "wenn: "} {
				if strings.Contains(line, from) {
					add(i, "a wrong part", strings.Replace(line, from, to, 1))
				}
			}
			m := keyed.FindStringSubmatch(line)
			if m == nil || !known[m[2]] || strings.Contains(m[1], "{") {
				continue
			}
			if len(m[2]) > 3 {
				add(i, "a misspelt key", m[1]+m[2][:len(m[2])-2]+m[2][len(m[2])-1:]+": "+m[3])
			}
			add(i, "no colon", m[1]+m[2]+" "+m[3])
			add(i, "no space", m[1]+m[2]+":"+m[3])
			if !strings.Contains(m[1], "-") {
				add(i, "a tab", "\t"+m[1]+m[2]+": "+m[3])
			}
			for _, wrong := range wrongValues(m[2], m[3]) {
				add(i, "a wrong value", m[1]+m[2]+": "+wrong)
			}
		}
	}
	return out
}

// Of 300 single mistakes in the demo and the examples, at least 275 are reported on their line.
func TestSingleMistakes(t *testing.T) {
	var all []mistake
	for _, root := range []string{"../../demo/steps/01-first/frostline", "../../demo/canal/01-rows/watering"} {
		files, err := manifest.FromFS(os.DirFS(root))
		if err != nil {
			t.Fatal(err)
		}
		if r := (check.Options{Offers: offersOfLocal()}).Service(files); !r.OK() {
			t.Fatalf("%s: %v", root, r.Diagnostics)
		}
		all = append(all, mistakesOf(t, files)...)
	}
	rng := rand.New(rand.NewPCG(29, 5))
	rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	if len(all) < 300 {
		t.Fatalf("only %d mistakes", len(all))
	}
	reported, missed := 0, ""
	for _, m := range all[:300] {
		r := check.Options{Offers: offersOfLocal()}.Service(m.files)
		found := false
		for _, d := range r.Diagnostics {
			found = found || path.Clean(d.File) == m.file && d.Line <= m.line && m.line <= max(d.Line, d.EndLine)
		}
		if found {
			reported++
		} else {
			missed += fmt.Sprintf("%s\n   %v\n", m.what, r.Diagnostics)
		}
	}
	t.Logf("%d of 300 are reported on their line; %d mistakes in all", reported, len(all))
	if reported < 275 {
		t.Errorf("only %d of 300 are reported on their line; not:\n%s", reported, missed)
	}
}
