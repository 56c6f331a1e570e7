package plan

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"rudmar/core/canon"
	"rudmar/core/language"
	"rudmar/core/tree"
)

// Write writes a plan as plain text: the summary, the impact, the blockers, and its steps by function, with
// dependent steps folded. by returns who wrote a location, file:line, and why; "" or nil if unknown.
func (p *Plan) Write(out io.Writer, by func(place string) string) error {
	w := &textWriter{out: out, by: by}
	w.line("%s", p.Summary())
	if says := p.ImpactLines(); len(says) > 0 {
		w.line("")
		for _, l := range says {
			w.line("%-8s %s: %s", l.Severity, strings.ReplaceAll(l.Kind, "-", " "), l.Text)
			if l.How != "" {
				w.line("           %s", l.How)
			}
		}
	}
	for i, problem := range p.Blockers {
		if i == 0 {
			w.line("")
		}
		w.line("blocker: %s%s", problem.Message, w.place(problem.From))
	}
	for _, fn := range p.byFunction() {
		w.line("")
		w.line("%s", fn.name)
		for _, s := range fn.steps {
			w.step(s)
		}
		if fn.follow > 0 {
			w.line("  and %s", language.FormatCount(fn.follow, "dependent step"))
		}
	}
	w.line("")
	w.line("plan %s", p.Digest)
	return w.err
}

// MostOrigins is the maximum number of locations of a plan's causes whose authors are looked up.
const MostOrigins = 300

// Origins returns the places that its causes lie in, each once, up to so many.
func (p *Plan) Origins(most int) []tree.Origin {
	type place struct {
		file string
		line int32
	}
	seen := map[place]bool{}
	var out []tree.Origin
	for _, s := range p.Steps {
		for _, c := range s.Because {
			if c.From == nil || c.From.File == "" || seen[place{c.From.File, c.From.Line}] {
				continue
			}
			if len(out) == most {
				return out
			}
			seen[place{c.From.File, c.From.Line}] = true
			out = append(out, *c.From)
		}
	}
	return out
}

type textWriter struct {
	out io.Writer
	by  func(place string) string
	err error
}

// place returns a location, and its author, in parentheses; "" if unknown.
func (w *textWriter) place(o *tree.Origin) string {
	if o == nil || o.File == "" {
		return ""
	}
	at := fmt.Sprintf("%s:%d", o.File, o.Line)
	if w.by != nil {
		if who := w.by(at); who != "" {
			return fmt.Sprintf(" (%s, %s)", at, who)
		}
	}
	return " (" + at + ")"
}

func (w *textWriter) line(format string, args ...any) {
	if w.err == nil {
		_, w.err = fmt.Fprintf(w.out, format+"\n", args...)
	}
}

func (w *textWriter) step(s *Step) {
	var because []string
	for _, c := range s.Because {
		because = append(because, c.Text+w.place(c.From))
	}
	w.line("  %-8s %s  %s", s.Change, s.Address, strings.Join(because, "; "))
	for _, a := range s.Attributes {
		if s.Change == "delete" || s.Kind == "revision" || s.Kind == "pointer" {
			break // the inputs of a digest are what matters
		}
		before := Value(a.Before, a.Unit)
		if a.Drifted {
			before = "actual: " + Value(a.Actual, a.Unit)
		}
		w.line("             %s: %s → %s", a.Name, before, Value(a.After, a.Unit))
	}
}

type functionSteps struct {
	name   string
	steps  []*Step
	follow int
}

// byFunction returns the steps by function, sorted, without those that follow others.
func (p *Plan) byFunction() []functionSteps {
	at := map[string]int{}
	var out []functionSteps
	for i := range p.Steps {
		s := &p.Steps[i]
		j, known := at[s.Function]
		if !known {
			j, out = len(out), append(out, functionSteps{name: s.Function})
			at[s.Function] = j
		}
		if s.Follows != "" {
			out[j].follow++
		} else {
			out[j].steps = append(out[j].steps, s)
		}
	}
	slices.SortFunc(out, func(a, b functionSteps) int { return strings.Compare(a.name, b.name) })
	return out
}

// Value returns an attribute's value as manifests write it; "absent" for none.
func Value(v any, unit string) string {
	number, isNumber := v.(float64)
	switch {
	case v == nil:
		return "absent"
	case isNumber && unit == "bytes":
		return language.FormatSize(int64(number))
	case isNumber && unit == "ms":
		return language.FormatTime(time.Duration(number * float64(time.Millisecond)))
	}
	return canon.Text(v)
}
