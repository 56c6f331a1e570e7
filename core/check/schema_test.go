package check_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"

	"rudmar/core/author"
	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// compiled returns the schema of a kind of file, compiled by another hand.
func compiled(t *testing.T, file string) *jsonschema.Schema {
	t.Helper()
	text, err := json.Marshal(language.New().Schema(file))
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("schema.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// plain reads YAML as editors do that know nothing of ours.
func plain(t *testing.T, text string) any {
	t.Helper()
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		t.Fatalf("%v in\n%s", err, text)
	}
	out, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	back, err := jsonschema.UnmarshalJSON(bytes.NewReader(out))
	if err != nil {
		t.Fatal(err)
	}
	return back
}

// Every manifest that ships with Rudmar matches the schemas, and is formatted.
func TestSchemaAcceptsEveryExample(t *testing.T) {
	schemas := map[string]*jsonschema.Schema{}
	seen := 0
	for _, root := range []string{"../../examples", "../../demo/steps"} {
		tree, err := manifest.FromFS(os.DirFS(root))
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range tree.Files() {
			kind := path.Base(name)
			switch {
			case kind == language.ServiceFile || kind == language.FunctionFile:
			case path.Base(path.Dir(name)) == language.CasesFolder && path.Ext(name) == ".yaml":
				kind = language.CasesFolder
			default:
				continue
			}
			if schemas[kind] == nil {
				schemas[kind] = compiled(t, kind)
			}
			text, err := tree.Read(name)
			if err != nil {
				t.Fatal(err)
			}
			seen++
			if err := schemas[kind].Validate(plain(t, string(text))); err != nil {
				t.Errorf("%s: %v", name, err)
			}
			if formed, err := author.Format(name, text); err != nil || string(formed) != string(text) {
				t.Errorf("%s is not in form: %v", name, err)
			}
		}
	}
	if seen < 20 {
		t.Errorf("only %d manifests were found", seen)
	}
}

func TestSchemaAcceptsValidServices(t *testing.T) {
	full := warn + `memory: 256 MiB
timeout: 1m30s
max_concurrency: 5
renamed_from: frost-alert
build: {run: [npm ci], exclude: ["*.md"]}
per_stage:
  live: {memory: null, env: {LIMIT_C: null}, triggers: {ask: {enabled: false}, other: null}}
`
	for file, texts := range map[string][]string{
		language.FunctionFile: {warn, full},
		language.ServiceFile:  {service},
		language.CasesFolder: {
			"case: mild\nsend: {route: GET /a, query: {at: 3}, body: {a: [1]}}\nexpect: [status == 200]\n",
			"case: x\nsend: {payload: null}\nexpect: [cold]\n"},
	} {
		for _, text := range texts {
			if err := compiled(t, file).Validate(plain(t, text)); err != nil {
				t.Errorf("%s: %v\n%s", file, err, text)
			}
		}
	}
}

func TestSchemaRejectsInvalidServices(t *testing.T) {
	fn, sv := compiled(t, language.FunctionFile), compiled(t, language.ServiceFile)
	for name, changes := range map[string]map[string]string{
		"misspelt key": inFunction("description:", "descripton:"), "no handler": inFunction("handler: warn:run\n", ""),
		"list for a mapping":      inFunction("  LIMIT_C: ${settings.frost_limit}", "  - LIMIT_C"),
		"bad name":                inFunction("function: warn", "function: Warn_1"),
		"bare timeout":            inFunction("description: Warns growers", "timeout: 10"),
		"at_once in words":        inFunction("description: Warns growers", "max_concurrency: many"),
		"route without a method":  inFunction("GET /stations", "/stations"),
		"four cron fields":        inFunction("permissions:", "  tick: {cron: \"*/10 * * *\"}\npermissions:"),
		"permission of no kind":   inFunction("tables/stations", "stations"),
		"text for a list":         inService("secrets: [sms_key]", "secrets: sms_key"),
		"unknown runtime":         inService("runtime: python", "runtime: pyhton"),
		"memory in MB":            inService("128 MiB", "128 MB"),
		"target without a region": inService("target: local/north", "target: north"),
		"format of the future":    inService("rudmar: 1", "rudmar: 2"),
		"no stages":               {"rudmar.yaml": "rudmar: 1\nservice: x\n"},
	} {
		files := sound(changes)
		if r := check.Service(files); r.OK() {
			t.Errorf("%s: the checker takes it", name)
		}
		if fn.Validate(plain(t, string(files["functions/warn/function.yaml"]))) == nil &&
			sv.Validate(plain(t, string(files["rudmar.yaml"]))) == nil {
			t.Errorf("%s: the schemas take it", name)
		}
	}
}

func TestSARIF(t *testing.T) {
	r := check.Service(sound(inFunction("description:", "descripton:")))
	text, err := json.Marshal(diagnostic.SARIF(r.Diagnostics))
	if err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndColumn int }
					}
				}
				Fixes []struct {
					ArtifactChanges []struct {
						Replacements []struct{ InsertedContent struct{ Text string } }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(text, &log); err != nil {
		t.Fatal(err)
	}
	got := log.Runs[0].Results[0]
	at := got.Locations[0].PhysicalLocation
	summary := fmt.Sprint(log.Version, " ", got.RuleID, " ", got.Level, " ", at.ArtifactLocation.URI, " ", at.Region,
		" ", got.Fixes[0].ArtifactChanges[0].Replacements[0].InsertedContent.Text, " ", log.Runs[0].Tool.Driver.Rules)
	if want := "2.1.0 RM1101 error functions/warn/function.yaml {2 1 11} description [{RM1101}]"; summary != want {
		t.Errorf("%s, want %s", summary, want)
	}
	if empty, _ := json.Marshal(diagnostic.SARIF(nil)); !strings.Contains(string(empty), `"results":[]`) {
		t.Errorf("without findings: %s", empty)
	}
}
