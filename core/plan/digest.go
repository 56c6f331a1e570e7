package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"

	"rudmar/core/canon"
	"rudmar/core/cores"
	"rudmar/core/tree"
)

// digest is the SHA-256 of the plan's canonical form (RFC 8785) without outlook and
// digest. A large plan has many steps, so that they are written by hand and on all
// cores; that this is what encoding/json would write is held by a test.
func digest(p *Plan) string {
	text, err := canonical(p)
	if err != nil {
		return "" // the values came from JSON
	}
	sum := sha256.Sum256(text)
	return "sha256:" + hex.EncodeToString(sum[:])
}

func canonical(p *Plan) ([]byte, error) {
	rest := *p
	rest.Digest, rest.Outlook, rest.Steps = "", nil, nil
	plain, err := canon.Plain(rest)
	if err != nil {
		return nil, err
	}
	members, _ := plain.(map[string]any)
	delete(members, "steps")
	steps, err := canonicalSteps(p.Steps)
	if err != nil {
		return nil, err
	}
	names := make([]string, 0, len(members)+1)
	for name := range members {
		names = append(names, name)
	}
	names = append(names, "steps")
	slices.Sort(names) // they are ASCII, of which bytes and UTF-16 have one order
	out := []byte{'{'}
	for i, name := range names {
		if i > 0 {
			out = append(out, ',')
		}
		if out, err = canon.Append(out, name); err != nil {
			return nil, err
		}
		out = append(out, ':')
		if name == "steps" {
			out = append(out, steps...)
		} else if out, err = canon.Append(out, members[name]); err != nil {
			return nil, err
		}
	}
	return append(out, '}'), nil
}

// canonicalSteps writes steps in stretches, each on a core.
func canonicalSteps(steps []Step) ([]byte, error) {
	texts := make([][]byte, len(steps))
	errs := make([]error, len(steps))
	cores.Share(len(steps), func(from, to int) {
		for i := from; i < to; i++ {
			texts[i], errs[i] = canon.Append(nil, stepMembers(&steps[i]))
		}
	})
	size := 2
	for i := range texts {
		if errs[i] != nil {
			return nil, errs[i]
		}
		size += len(texts[i]) + 1
	}
	out := append(make([]byte, 0, size), '[')
	for i, text := range texts {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(out, text...)
	}
	return append(out, ']'), nil
}

func stepMembers(s *Step) []canon.Member {
	attributes := make([]any, len(s.Attributes))
	for i, a := range s.Attributes {
		m := []canon.Member{{Name: "name", Value: a.Name}, {Name: "before", Value: a.Before}, {Name: "after", Value: a.After}}
		m = given(m, a.Live != nil, "live", a.Live)
		m = given(m, a.Drifted, "drifted", a.Drifted)
		attributes[i] = given(m, a.Unit != "", "unit", a.Unit)
	}
	because := make([]any, len(s.Because))
	for i, c := range s.Because {
		m := []canon.Member{{Name: "kind", Value: string(c.Kind)}, {Name: "text", Value: c.Text}}
		m = given(m, c.From != nil, "from", origin(c.From))
		because[i] = given(m, len(c.Files) > 0, "files", c.Files)
	}
	needs := make([]any, len(s.Needs))
	for i, n := range s.Needs {
		needs[i] = n
	}
	m := []canon.Member{{Name: "index", Value: s.Index}, {Name: "address", Value: s.Address}, {Name: "kind", Value: s.Kind},
		{Name: "function", Value: s.Function}, {Name: "change", Value: string(s.Change)},
		{Name: "attributes", Value: orNull(attributes, s.Attributes == nil)}, {Name: "because", Value: orNull(because, s.Because == nil)},
		{Name: "needs", Value: orNull(needs, s.Needs == nil)}, {Name: "wave", Value: s.Wave}, {Name: "expected", Value: s.Expected}}
	m = given(m, s.RecordOnly, "recordOnly", true)
	m = given(m, s.UndoesDrift, "undoesDrift", true)
	m = given(m, s.Tag != "", "tag", s.Tag)
	m = given(m, len(s.Want) > 0, "want", s.Want)
	m = given(m, s.Was != "", "was", s.Was)
	m = given(m, len(s.WantNeeds) > 0, "wantNeeds", s.WantNeeds)
	return given(m, s.Follows != "", "follows", s.Follows)
}

// orNull gives a list as encoding/json writes one that is nil.
func orNull(list []any, isNil bool) any {
	if isNil {
		return nil
	}
	return list
}

// given adds a member where it is there, as omitempty has it.
func given(m []canon.Member, there bool, name string, value any) []canon.Member {
	if there {
		return append(m, canon.Member{Name: name, Value: value})
	}
	return m
}

func origin(o *tree.Origin) any {
	if o == nil {
		return nil
	}
	m := []canon.Member{{Name: "rule", Value: o.Rule.String()}}
	m = given(m, o.File != "", "file", o.File)
	m = given(m, o.Line != 0, "line", int(o.Line))
	return given(m, o.Column != 0, "column", int(o.Column))
}
