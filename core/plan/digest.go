package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"slices"
	"strconv"

	"rudmar/core/canon"
	"rudmar/core/tree"
)

// digest is the SHA-256 of the plan's canonical form (RFC 8785) without outlook and digest. A large plan has
// many steps, so they are written by hand, and hashed while the next ones are written; a test compares this
// with encoding/json.
func digest(p *Plan) string {
	sum := sha256.New()
	if err := writeCanonical(sum, p); err != nil {
		return "" // the values came from JSON
	}
	return "sha256:" + hex.EncodeToString(sum.Sum(nil))
}

func writeCanonical(w io.Writer, p *Plan) error {
	steps := beginSteps(p.Steps) // written concurrently with the rest
	before, behind, err := aroundSteps(p)
	write := func(text []byte) {
		if err == nil {
			_, err = w.Write(text)
		}
	}
	write(before)
	for text := range steps.ready {
		write(text)
		steps.free <- text
	}
	if err == nil {
		err = steps.err
	}
	write(behind)
	return err
}

// aroundSteps returns the canonical form of a plan before and after the content of its list of steps.
func aroundSteps(p *Plan) (before, behind []byte, err error) {
	rest := *p
	rest.Digest, rest.Outlook, rest.Steps = "", nil, nil
	plain, err := canon.Plain(rest)
	if err != nil {
		return nil, nil, err
	}
	members, _ := plain.(map[string]any)
	members["steps"] = nil
	names := make([]string, 0, len(members))
	for name := range members {
		names = append(names, name)
	}
	slices.Sort(names) // they are ASCII, of which bytes and UTF-16 have one order
	out := []byte{'{'}
	for i, name := range names {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(canon.AppendString(out, name), ':')
		if name == "steps" {
			before, out = append(out, '['), []byte{']'}
		} else if out, err = canon.Append(out, members[name]); err != nil {
			return nil, nil, err
		}
	}
	return before, append(out, '}'), nil
}

// stretch is the number of steps that are written at once, and ahead the maximum number of such groups before
// the first is read.
const (
	stretch = 256
	ahead   = 64
)

// stepTexts are steps as they are written, a stretch at a time, with commas between them.
type stepTexts struct {
	ready chan []byte
	free  chan []byte // released buffers
	err   error       // readable once ready is closed
}

// beginSteps starts to write steps. The caller must read everything from ready, and release it.
func beginSteps(steps []Step) *stepTexts {
	t := &stepTexts{ready: make(chan []byte, ahead), free: make(chan []byte, ahead+2)}
	go func() {
		defer close(t.ready)
		for from := 0; from < len(steps) && t.err == nil; from += stretch {
			to := min(len(steps), from+stretch)
			var text stepText
			select {
			case room := <-t.free:
				text.out = room[:0]
			default:
				text.out = make([]byte, 0, 700*(to-from))
			}
			for i := from; i < to; i++ {
				if i > 0 {
					text.raw(",")
				}
				text.step(&steps[i])
			}
			t.err = text.err
			t.ready <- text.out
		}
	}()
	return t
}

// stepText is the canonical form of steps: members are sorted by name. It stores the first error.
type stepText struct {
	out []byte
	err error
}

func (t *stepText) raw(text string) { t.out = append(t.out, text...) }

// text writes a member, with the text before its value.
func (t *stepText) text(before, value string) {
	t.out = canon.AppendString(append(t.out, before...), value)
}

func (t *stepText) number(before string, value int64) {
	t.out = strconv.AppendInt(append(t.out, before...), value, 10)
}

func (t *stepText) value(before string, v any) {
	out, err := canon.Append(append(t.out, before...), v)
	if t.out = out; err != nil && t.err == nil {
		t.err = err
	}
}

// list writes a list of n items, null if it is nil.
func (t *stepText) list(before string, n int, isNil bool, one func(i int)) {
	t.raw(before)
	if isNil {
		t.raw("null")
		return
	}
	t.raw("[")
	for i := range n {
		if i > 0 {
			t.raw(",")
		}
		one(i)
	}
	t.raw("]")
}

func (t *stepText) step(s *Step) {
	t.text(`{"address":`, s.Address)
	t.list(`,"attributes":`, len(s.Attributes), s.Attributes == nil, func(i int) { t.attribute(&s.Attributes[i]) })
	t.list(`,"because":`, len(s.Because), s.Because == nil, func(i int) { t.cause(&s.Because[i]) })
	t.text(`,"change":`, string(s.Change))
	t.number(`,"expected":`, s.Expected)
	if s.Follows != "" {
		t.text(`,"follows":`, s.Follows)
	}
	t.text(`,"function":`, s.Function)
	t.number(`,"index":`, int64(s.Index))
	t.text(`,"kind":`, s.Kind)
	t.list(`,"needs":`, len(s.Needs), s.Needs == nil, func(i int) { t.number("", int64(s.Needs[i])) })
	t.number(`,"phase":`, int64(s.Phase))
	if s.RecordOnly {
		t.raw(`,"recordOnly":true`)
	}
	if s.RenamedFrom != "" {
		t.text(`,"renamedFrom":`, s.RenamedFrom)
	}
	if s.RevertsDrift {
		t.raw(`,"revertsDrift":true`)
	}
	if s.Tag != "" {
		t.text(`,"tag":`, s.Tag)
	}
	if len(s.Want) > 0 {
		t.value(`,"want":`, s.Want)
	}
	if len(s.WantNeeds) > 0 {
		t.list(`,"wantNeeds":`, len(s.WantNeeds), false, func(i int) { t.text("", s.WantNeeds[i]) })
	}
	t.raw("}")
}

func (t *stepText) attribute(a *AttributeChange) {
	t.raw("{")
	if a.Actual != nil {
		t.value(`"actual":`, a.Actual)
		t.raw(",")
	}
	t.value(`"after":`, a.After)
	t.value(`,"before":`, a.Before)
	if a.Drifted {
		t.raw(`,"drifted":true`)
	}
	t.text(`,"name":`, a.Name)
	if a.Unit != "" {
		t.text(`,"unit":`, a.Unit)
	}
	t.raw("}")
}

func (t *stepText) cause(c *Cause) {
	t.raw("{")
	if len(c.Files) > 0 {
		t.list(`"files":`, len(c.Files), false, func(i int) { t.text("", c.Files[i]) })
		t.raw(",")
	}
	if c.From != nil {
		t.origin(c.From)
		t.raw(",")
	}
	t.text(`"kind":`, string(c.Kind))
	t.text(`,"text":`, c.Text)
	t.raw("}")
}

func (t *stepText) origin(o *tree.Origin) {
	t.raw(`"from":{`)
	if o.Column != 0 {
		t.number(`"column":`, int64(o.Column))
		t.raw(",")
	}
	if o.File != "" {
		t.text(`"file":`, o.File)
		t.raw(",")
	}
	if o.Line != 0 {
		t.number(`"line":`, int64(o.Line))
		t.raw(",")
	}
	t.text(`"rule":`, o.Rule.String())
	t.raw("}")
}
