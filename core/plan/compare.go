package plan

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/consequence"
	"rudmar/core/expand"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

type builder struct {
	in        Inputs
	record    map[string]*Recorded
	live      map[string]*Live
	kinds     map[string]*KindSpec
	steps     []Step
	at        map[string]int // address → step
	problems  []Problem
	unchanged int
	needs     map[string][]string

	renamed map[string]bool // identities that a step gives another name
	gaps    []consequence.Gap

	wantedFunctions, recordedFunctions map[string]bool
	declaredAt                         map[string]tree.Origin // function → where it is declared
}

func newBuilder(in Inputs) *builder {
	b := &builder{in: in, record: make(map[string]*Recorded, len(in.Record)), live: make(map[string]*Live, len(in.Live)),
		kinds: map[string]*KindSpec{},
		at:    map[string]int{}, renamed: map[string]bool{}, gaps: []consequence.Gap{},
		wantedFunctions: map[string]bool{}, recordedFunctions: map[string]bool{},
		declaredAt: map[string]tree.Origin{}}
	for i := range in.Wanted {
		w := &in.Wanted[i]
		b.wantedFunctions[w.Function] = true
		if w.Kind != resource.Revision {
			continue
		}
		for _, a := range w.Attributes {
			if a.Name == "artifact" && a.From.File != "" {
				b.declaredAt[w.Function] = a.From // where its name stands
			}
		}
	}
	for i := range in.Record {
		b.recordedFunctions[in.Record[i].Function] = true
		b.record[in.Record[i].Address] = &in.Record[i]
	}
	for i := range in.Live {
		b.live[in.Live[i].Address] = &in.Live[i]
	}
	for i := range in.Kinds {
		b.kinds[in.Kinds[i].Kind] = &in.Kinds[i]
	}
	return b
}

// spec finds what the platform says of an attribute; unknown ones can change in place.
func (b *builder) spec(kind, name string) AttributeSpec {
	if k := b.kinds[kind]; k != nil {
		for _, a := range k.Attributes {
			if prefix, open := strings.CutSuffix(a.Name, "*"); a.Name == name || open && strings.HasPrefix(name, prefix) {
				return a
			}
		}
	}
	return AttributeSpec{Name: name, InPlace: true}
}

func (b *builder) compare() {
	wanted := make(map[string]bool, len(b.in.Wanted))
	for i := range b.in.Wanted {
		w := &b.in.Wanted[i]
		wanted[w.Address] = true
		if b.renamed[w.Address] {
			continue // the step that renames it puts it as it is wanted
		}
		if b.kinds[w.Kind] == nil {
			from := firstOrigin(w)
			b.problems = append(b.problems, Problem{Message: fmt.Sprintf("the platform has no resources of kind %q", w.Kind),
				Address: w.Address, From: &from})
			continue
		}
		b.want(w)
	}
	var gone []string
	for address := range b.record {
		if !wanted[address] {
			gone = append(gone, address)
		}
	}
	sort.Strings(gone)
	for _, address := range gone {
		b.remove(b.record[address])
	}
	b.takeAway(wanted)
}

// takeAway adds a step for each foreign resource that somebody wants to be gone.
func (b *builder) takeAway(wanted map[string]bool) {
	addresses := slices.Clone(b.in.TakeAway)
	slices.Sort(addresses)
	for _, address := range slices.Compact(addresses) {
		live := b.live[address]
		if live == nil || b.record[address] != nil || wanted[address] {
			continue // it is gone already, or is Rudmar's own
		}
		s := Step{Address: address, Kind: live.Kind, Function: resource.FunctionOf(address), Change: resource.Delete,
			Tag: live.Tag, Attributes: b.changes(live.Kind, b.settable(live.Kind, live.Attributes), nil, nil),
			Because: []Cause{{Kind: ByDrift, Text: "it is live and not Rudmar's own; somebody wants it gone"}}}
		b.add(s)
	}
}

func firstOrigin(w *expand.Resource) tree.Origin {
	for _, a := range w.Attributes {
		if a.From.File != "" {
			return a.From
		}
	}
	return tree.Origin{Rule: tree.DerivedFrom}
}

// same tells whether a resource is recorded and live just as it is wanted: of most it
// is, and no more has to be known of them.
func (b *builder) same(w *expand.Resource) bool {
	record, live := b.record[w.Address], b.live[w.Address]
	if record == nil || live == nil || len(record.Attributes) != len(w.Attributes) {
		return false
	}
	for i := range w.Attributes {
		a := &w.Attributes[i]
		was, recorded := record.Attributes[a.Name]
		is, there := live.Attributes[a.Name]
		if !recorded || !there || !canon.Equal(was, a.Value) || !canon.Equal(is, a.Value) {
			return false
		}
	}
	if len(live.Attributes) == len(w.Attributes) {
		return true
	}
	for name := range live.Attributes {
		if _, known := record.Attributes[name]; !known && !b.spec(w.Kind, name).Computed {
			return false
		}
	}
	return true
}

// want decides what happens to one wanted resource, and says why.
func (b *builder) want(w *expand.Resource) {
	if b.same(w) {
		b.unchanged++
		return
	}
	at := states{wanted: w.Values()}
	record, live := b.record[w.Address], b.live[w.Address]
	if record != nil {
		at.record = present(record.Attributes)
	}
	s := Step{Address: w.Address, Kind: w.Kind, Function: w.Function, Want: at.wanted, WantNeeds: w.Needs}
	if live != nil {
		at.live, s.Tag = b.settable(w.Kind, live.Attributes), live.Tag
	}
	o := at.outcome(func(names []string) bool { return b.inPlace(w.Kind, names) })
	s.Change, s.RecordOnly, s.UndoesDrift = o.Change, o.RecordOnly, o.UndoesDrift
	switch {
	case o.Conflict:
		from := firstOrigin(w)
		b.problems = append(b.problems, Problem{Address: w.Address, From: &from, Message: fmt.Sprintf(
			"%s is there already, not made by Rudmar, and cannot become what is wanted (%s cannot change in place); take it away or rename", w.Address, strings.Join(differences(at.live, at.wanted), ", "))})
		return
	case o.Change == "" || b.left(w.Address, at):
		b.unchanged++
		return
	case o.Change == resource.Create && record == nil:
		s.Attributes = b.changes(w.Kind, nil, at.wanted, nil)
		s.Because = b.newCause(w)
	case o.Change == resource.Create:
		s.Attributes = b.changes(w.Kind, nil, at.wanted, nil)
		s.Because = append([]Cause{{Kind: ByVanished, Text: "it was taken away behind Rudmar's back"}},
			b.causes(w, differences(at.record, at.wanted))...)
	case o.Change == resource.Adopt:
		s.Attributes = b.changes(w.Kind, at.live, at.wanted, nil)
		s.Because = append(b.newCause(w), Cause{Kind: ByDrift, Text: "it is live already, but Rudmar did not put it there"})
	case o.Change == resource.Restore || o.UndoesDrift && len(differences(at.record, at.wanted)) == 0:
		s.Attributes = b.changes(w.Kind, at.record, at.wanted, at.live)
		s.Because = []Cause{{Kind: ByDrift, Text: "changed by hand: " + strings.Join(differences(at.record, at.live), ", ")}}
	default:
		s.Attributes = b.changes(w.Kind, at.record, at.wanted, at.live)
		s.Because = b.causes(w, differences(at.record, at.wanted))
		if o.UndoesDrift {
			s.Because = append(s.Because,
				Cause{Kind: ByDrift, Text: "also changed by hand: " + strings.Join(differences(at.record, at.live), ", ")})
		}
	}
	b.add(s)
}

// left tells whether a resource is otherwise by hand alone, in what somebody left
// as it is. Where the resource is to change for another reason it is put as it is
// wanted, and the plan says that this undoes what was left.
func (b *builder) left(address string, at states) bool {
	if len(b.in.LeftAlone) == 0 || at.record == nil || len(differences(at.record, at.wanted)) > 0 {
		return false
	}
	if kind, fn := resource.Split(address); at.live != nil && (kind == resource.Revision || kind == resource.Pointer) {
		// What a function changed by hand brings with it is left with it.
		function := resource.Function + "/" + fn
		record, live, wanted := b.record[function], b.live[function], b.wantedOf(function)
		if record != nil && live != nil && wanted != nil {
			of := states{record: record.Attributes, live: b.settable(resource.Function, live.Attributes), wanted: wanted}
			if len(differences(of.record, of.live)) > 0 {
				return b.left(function, of)
			}
		}
	}
	leaves := func(attribute string, live any) bool {
		return slices.ContainsFunc(b.in.LeftAlone, func(l Left) bool {
			return l.Address == address && l.Attribute == attribute && canon.Equal(l.Live, live)
		})
	}
	if at.live == nil {
		return leaves("", nil)
	}
	for _, name := range differences(at.record, at.live) {
		if !leaves(name, at.live[name]) {
			return false
		}
	}
	return true
}

// wantedOf gives what is wanted of a resource; nil where it is not wanted.
func (b *builder) wantedOf(address string) map[string]any {
	for i := range b.in.Wanted {
		if b.in.Wanted[i].Address == address {
			return b.in.Wanted[i].Values()
		}
	}
	return nil
}

func (b *builder) remove(r *Recorded) {
	at := states{record: present(r.Attributes)}
	s := Step{Address: r.Address, Kind: r.Kind, Function: r.Function}
	if live := b.live[r.Address]; live != nil {
		at.live, s.Tag = b.settable(r.Kind, live.Attributes), live.Tag
	}
	o := at.outcome(func([]string) bool { return true })
	s.Change, s.RecordOnly = o.Change, o.RecordOnly
	s.Attributes = b.changes(r.Kind, r.Attributes, nil, nil)
	cause := Cause{Kind: ByRemoval, Text: fmt.Sprintf("version %d no longer declares it", b.in.Base.Version)}
	switch {
	case b.in.Left != "":
		cause.Text = b.in.Left
	case !b.declared(r.Function):
		cause.Text = fmt.Sprintf("the function %s is not in version %d", r.Function, b.in.Base.Version)
		for _, name := range slices.Sorted(maps.Keys(b.in.Renamed)) {
			if was := b.in.Renamed[name]; was == r.Function {
				cause.Text = fmt.Sprintf("the function %s is called %s now", was, name)
			}
		}
	}
	s.Because = []Cause{cause}
	b.add(s)
}

func (b *builder) declared(fn string) bool { return b.wantedFunctions[fn] }

func (b *builder) add(s Step) {
	s.Index = len(b.steps)
	s.Expected = b.in.Usual[s.Kind].Milliseconds()
	if s.RecordOnly {
		s.Expected = 0
	}
	b.at[s.Address] = s.Index
	b.steps = append(b.steps, s)
}

// settable leaves out what the platform computes.
func (b *builder) settable(kind string, attributes map[string]any) map[string]any {
	out := make(map[string]any, len(attributes))
	for name, v := range attributes {
		if !b.spec(kind, name).Computed {
			out[name] = v
		}
	}
	return out
}

func (b *builder) inPlace(kind string, names []string) bool {
	return !slices.ContainsFunc(names, func(n string) bool { return !b.spec(kind, n).InPlace })
}

// changes lists what happens to each attribute; live is given only where it
// may differ from the record.
func (b *builder) changes(kind string, before, after, live map[string]any) []AttributeChange {
	names := differences(before, after)
	if live != nil {
		names = append(names, differences(before, live)...)
		sort.Strings(names)
		names = slices.Compact(names)
	}
	out := make([]AttributeChange, 0, len(names))
	for _, name := range names {
		c := AttributeChange{Name: name, Before: before[name], After: after[name], Unit: b.spec(kind, name).Unit}
		if live != nil && !canon.Equal(before[name], live[name]) {
			c.Live, c.Drifted = live[name], true
		}
		out = append(out, c)
	}
	return out
}

func (b *builder) newCause(w *expand.Resource) []Cause {
	from := firstOrigin(w)
	text := "newly declared"
	if !b.recorded(w.Function) {
		// That the function is there is the reason, not some line that the resource has a value of.
		if declared, ok := b.declaredAt[w.Function]; ok {
			from = declared
		}
		text = fmt.Sprintf("the function %s is new in this stage", w.Function)
		if was := b.in.Renamed[w.Function]; was != "" {
			text = fmt.Sprintf("the function %s was called %s", w.Function, was)
		}
	}
	if from.File == "" {
		return []Cause{{Kind: ByNew, Text: text}}
	}
	return []Cause{{Kind: ByNew, Text: text, From: &from}}
}

func (b *builder) recorded(fn string) bool { return b.recordedFunctions[fn] }

// causes gives the reasons why a recorded resource is to become another.
func (b *builder) causes(w *expand.Resource, names []string) []Cause {
	var out []Cause
	for _, a := range w.Attributes {
		if slices.Contains(names, a.Name) {
			out = append(out, b.cause(w, a)...)
		}
	}
	for _, name := range names {
		if !slices.ContainsFunc(w.Attributes, func(a expand.Attribute) bool { return a.Name == name }) {
			out = append(out, Cause{Kind: ByRemoval, Text: name + " is no longer declared"})
		}
	}
	return compact(out)
}

func (b *builder) cause(w *expand.Resource, a expand.Attribute) []Cause {
	switch {
	case w.Kind == resource.Revision && a.Name == "artifact":
		files := b.in.Files[w.Function]
		text := "the code changed"
		if len(files) > 0 {
			text = "changed: " + short(files)
		}
		return []Cause{{Kind: ByFiles, Text: text, Files: files}}
	case w.Kind == resource.Revision && a.Name == "configuration":
		return []Cause{{Kind: ByDependency, Text: "the configuration of function/" + w.Function + " changed"}}
	case w.Kind == resource.Revision:
		return nil // the id follows from the other two
	case w.Kind == resource.Pointer:
		return []Cause{{Kind: ByDependency, Text: resource.Revision + "/" + w.Function + " is replaced"}}
	}
	from := a.From
	var out []Cause
	if _, secret := w.Secrets[a.Name]; secret {
		out = append(out, Cause{Kind: BySetting, Text: a.Name + ": a secret has another value in " + b.in.Base.Stage +
			", or is put in otherwise"})
	}
	for _, through := range a.Through {
		kind, text := BySetting, "a setting's default"
		if through.Rule == tree.OfStage {
			text = "what " + b.in.Base.Stage + " sets"
		}
		t := through
		out = append(out, Cause{Kind: kind, Text: a.Name + ": " + text, From: &t})
	}
	kind, text := ByManifest, a.Name
	switch from.Rule {
	case tree.Defaults:
		kind, text = ByDefault, a.Name+": the service's default"
	case tree.BuiltIn:
		return append(out, Cause{Kind: ByBuiltIn, Text: a.Name + ": the built-in value"})
	case tree.OfStage:
		text = a.Name + ": said for " + b.in.Base.Stage
	}
	return append(out, Cause{Kind: kind, Text: text, From: &from})
}

func short(files []string) string {
	names := make([]string, 0, 3)
	for _, f := range files {
		if len(names) == 3 {
			return strings.Join(names, ", ") + fmt.Sprintf(" and %d more", len(files)-3)
		}
		names = append(names, path.Base(f))
	}
	return strings.Join(names, ", ")
}

func compact(causes []Cause) []Cause {
	var out []Cause
	seen := map[string]bool{}
	for _, c := range causes {
		key := string(c.Kind) + c.Text
		if !seen[key] {
			seen[key] = true
			out = append(out, c)
		}
	}
	return out
}

// weighed are the kinds of resources that consequences are about; of functions and
// schedules those that a step touches, where what was observed is held against them.
func weighed(kind string, touched, observed bool) bool {
	switch kind {
	case resource.Grant, resource.Opening, resource.Route, resource.Subscription:
		return true
	case resource.Function, resource.Schedule:
		return touched && observed
	}
	return false
}

// states gives what consequences are weighed over.
func (b *builder) states(observed bool) (before, after []consequence.Resource, touched map[string]resource.Change) {
	touched = map[string]resource.Change{}
	for _, s := range b.steps {
		touched[s.Address] = s.Change
	}
	if len(b.steps) == 0 {
		return nil, nil, touched // what does not change means nothing
	}
	// Where nothing of their kinds changes, who may reach and call what stays as it is.
	whole := slices.ContainsFunc(b.steps, func(s Step) bool { return weighed(s.Kind, false, false) })
	stands := func(address, kind string) bool {
		if !whole && !observed {
			return false
		}
		_, isTouched := touched[address]
		return weighed(kind, isTouched, observed) && (whole || isTouched)
	}
	for i := range b.in.Record {
		if r := &b.in.Record[i]; stands(r.Address, r.Kind) {
			before = append(before,
				consequence.Resource{Address: r.Address, Kind: r.Kind, Function: r.Function, Attributes: r.Attributes})
		}
	}
	for i := range b.in.Wanted {
		w := &b.in.Wanted[i]
		if !stands(w.Address, w.Kind) {
			continue
		}
		r := consequence.Resource{Address: w.Address, Kind: w.Kind, Function: w.Function, Attributes: w.Values()}
		if from := firstOrigin(w); from.File != "" {
			r.From = &from
		}
		after = append(after, r)
	}
	return before, after, touched
}
