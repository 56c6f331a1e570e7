package expression

import (
	"reflect"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"
)

// The variables of rules. Each field is documented in docs/manifest.md.
type (
	// Plan is the plan of the version for the stage, on all its targets.
	Plan struct {
		Steps     []string `cel:"steps" about:"addresses of all changed resources"`
		Creates   []string `cel:"creates" about:"addresses of created resources"`
		Updates   []string `cel:"updates" about:"addresses of updated resources"`
		Deletes   []string `cel:"deletes" about:"addresses of deleted resources"`
		Functions []string `cel:"functions" about:"changed functions"`
	}
	// Impact is the plan's impact.
	Impact struct {
		Opened   []string `cel:"public_routes" about:"routes that become public"`
		Widened  []string `cel:"wider_routes" about:"routes open to more callers"`
		Closed   []string `cel:"closed_routes" about:"routes open to fewer callers"`
		Moved    []string `cel:"rerouted" about:"requests handled by another function, such as GET /stations/hill"`
		Gained   []string `cel:"new_permissions" about:"a function and a resource that it can now access, such as warn tables/stations"`
		Through  []string `cel:"indirect_permissions" about:"a function and what it can now do through other functions, such as warn read secrets/sms_key"`
		Lost     []string `cel:"removed_permissions" about:"a function and a resource that it can no longer access"`
		Loosened []string `cel:"weaker_gates" about:"gates that the version weakens"`
		Changed  []string `cel:"changed_gates" about:"gates that the version changes so that they are neither weaker nor stricter"`
		Removed  []string `cel:"data_loss" about:"addresses of deleted log stores and revisions"`
		Cold     []string `cel:"cold_starts" about:"functions with a cold start"`
	}
	// Version is the version to deliver.
	Version struct {
		Number  int64    `cel:"number" about:"the version number"`
		Author  string   `cel:"author" about:"the author stated in the commit, not verified"`
		Pushers []string `cel:"pushers" about:"signed-in users who pushed commits that are new to the stage; empty without an approvals gate"`
		Message string   `cel:"message" about:"the first line of the commit message"`
		Branch  string   `cel:"branch" about:"the branch of the commit"`
	}
	// Metrics are measured in the stages before, if a soak gate uses them.
	Metrics struct {
		Invocations int64 `cel:"invocations" about:"invocations"`
		Errors      int64 `cel:"errors" about:"failed invocations"`
	}
)

// Rules are the variables of a gate's rules.
type Rules struct {
	Plan    Plan    `cel:"plan"`
	Impact  Impact  `cel:"impact"`
	Version Version `cel:"version"`
	Metrics Metrics `cel:"metrics"`
}

// Variables returns the rules' variables by name.
func (r *Rules) Variables() map[string]any {
	return map[string]any{"plan": r.Plan, "impact": r.Impact, "version": r.Version, "metrics": r.Metrics}
}

// Field is a field of a variable.
type Field struct{ Name, Type, About string }

// RuleFields lists the fields of rules.
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

// CaseFields lists the fields of expectations.
func CaseFields() []Field {
	return []Field{
		{"status", "number", "the response's status; 200 if the function sets none"},
		{"headers", "map of strings", "the response's headers, names in lower case"},
		{"body", "anything", "the response's body, or the whole response"},
		{"logs", "list of strings", "log lines of this invocation"},
		{"took", "duration", "the duration, including a cold start"},
		{"memory_peak", "number", "bytes"},
		{"cold", "boolean", "whether the invocation was a cold start"},
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
	return "string"
}

// ForRules returns the language of gate rules: plan, consequences, version and
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
