package expression

import (
	"reflect"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"
)

// What rules are evaluated over. Each field stands in docs/manifest.md.
type (
	// Plan is what a version would do in the stage, on all its targets.
	Plan struct {
		Steps     []string `cel:"steps" about:"addresses of all that changes"`
		Creates   []string `cel:"creates" about:"addresses of what is made"`
		Updates   []string `cel:"updates" about:"addresses of what changes and stays"`
		Deletes   []string `cel:"deletes" about:"addresses of what goes"`
		Functions []string `cel:"functions" about:"functions that change"`
	}
	// Consequences is what that means.
	Impact struct {
		Opened   []string `cel:"opened" about:"routes that everybody may newly call"`
		Widened  []string `cel:"widened" about:"routes that somebody may newly call"`
		Closed   []string `cel:"closed" about:"routes that somebody may no longer call"`
		Moved    []string `cel:"moved" about:"requests that another function answers, such as GET /stations/hill"`
		Gained   []string `cel:"gained" about:"a function and what it may newly reach, such as warn tables/stations"`
		Through  []string `cel:"through" about:"a function and what it newly brings about through others, such as warn read secrets/sms_key"`
		Lost     []string `cel:"lost" about:"a function and what it may reach no longer"`
		Loosened []string `cel:"loosened" about:"rules of the stage that the version loosens"`
		Removed  []string `cel:"removed" about:"what is lost, in words"`
		Cold     []string `cel:"cold" about:"functions that start cold"`
	}
	// Version is the version that wants in.
	Version struct {
		Number  int64    `cel:"number" about:"its number"`
		Author  string   `cel:"author" about:"what its commit says of its author: shown, not to be trusted"`
		Pushers []string `cel:"pushers" about:"who pushed, as signed in, what is new to the stage; empty where no approval is asked for"`
		Message string   `cel:"message" about:"the first line of its commit"`
		Branch  string   `cel:"branch" about:"the branch that it was built from"`
	}
	// Metrics is what was measured of the version in the stages before, where a
	// soak gate asks for it.
	Metrics struct {
		Invocations int64 `cel:"calls" about:"calls"`
		Errors      int64 `cel:"errors" about:"calls that failed"`
	}
)

// Rules are the variables of a gate's rules.
type Rules struct {
	Plan    Plan    `cel:"plan"`
	Impact  Impact  `cel:"consequences"`
	Version Version `cel:"version"`
	Metrics Metrics `cel:"metrics"`
}

// Variables gives the rules' variables by name.
func (r *Rules) Variables() map[string]any {
	return map[string]any{"plan": r.Plan, "consequences": r.Impact, "version": r.Version, "metrics": r.Metrics}
}

// Field is something that an expression may speak of.
type Field struct{ Name, Type, About string }

// RuleFields lists what rules may speak of.
func RuleFields() []Field {
	var out []Field
	for _, variable := range reflect.VisibleFields(reflect.TypeFor[Rules]()) {
		for _, f := range reflect.VisibleFields(variable.Type) {
			out = append(out, Field{Name: variable.Tag.Get("cel") + "." + f.Tag.Get("cel"), Type: typeName(f.Type),
				About: f.Tag.Get("about")})
		}
	}
	return out
}

// CaseFields lists what expectations may speak of.
func CaseFields() []Field {
	return []Field{
		{"status", "number", "the response's status; 200 if the function sets none"},
		{"headers", "map of strings", "the response's headers, names in lower case"},
		{"body", "anything", "the response's body, or the whole response"},
		{"logs", "list of strings", "log lines of this invocation"},
		{"took", "duration", "the duration, including a cold start"},
		{"memory_peak", "number", "bytes"},
		{"cold", "truth", "whether the invocation was a cold start"},
	}
}

func typeName(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Slice:
		return "list of strings"
	case reflect.Int64:
		if t == reflect.TypeFor[time.Duration]() {
			return "duration"
		}
		return "number"
	}
	return "text"
}

// ForRules gives the language of gate rules: plan, consequences, version and
// metrics, each with its fields.
func ForRules() (*Language, error) {
	options := []cel.EnvOption{ext.NativeTypes(ext.ParseStructTag("cel"), reflect.TypeFor[Plan](),
		reflect.TypeFor[Impact](), reflect.TypeFor[Version](), reflect.TypeFor[Metrics]())}
	for _, f := range reflect.VisibleFields(reflect.TypeFor[Rules]()) {
		options = append(options,
			cel.Variable(f.Tag.Get("cel"), cel.ObjectType(strings.Join([]string{"expression", f.Type.Name()}, "."))))
	}
	return newLanguage(options...)
}
