package plan

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/cores"
	"rudmar/core/expand"
	"rudmar/core/impact"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

type builder struct {
	in        Inputs // desired, recorded and actual, sorted by address
	kinds     map[string]*KindSpec
	steps     []Step
	at        map[string]int // address → step
	blockers  []Blocker
	unchanged int

	renamed map[string]bool // identities that a step renames
	gaps    []impact.Gap

	wantedFunctions, recordedFunctions map[string]bool
	declaredAt                         map[string]tree.Origin // function → where it is declared
	newcomers                          map[string][]Cause     // created function → the reason for its resources
}

func newBuilder(in Inputs) *builder {
	in.Wanted, in.Record, in.Actual = sorted(in.Wanted, addressOf), sorted(in.Record, Recorded.at),
		sorted(in.Actual, Actual.at)
	b := &builder{in: in, kinds: map[string]*KindSpec{},
		at: map[string]int{}, renamed: map[string]bool{}, gaps: []impact.Gap{},
		wantedFunctions: map[string]bool{}, recordedFunctions: map[string]bool{},
		declaredAt: map[string]tree.Origin{}, newcomers: map[string][]Cause{}}
	for i := range in.Wanted {
		w := &in.Wanted[i]
		b.wantedFunctions[w.Function] = true
		if w.Kind != resource.Revision {
			continue
		}
		for _, a := range w.Attributes {
			if a.Name == "artifact" && a.From.File != "" {
				b.declaredAt[w.Function] = a.From // where its name is declared
			}
		}
	}
	for i := range in.Record {
		b.recordedFunctions[in.Record[i].Function] = true
	}
	for i := range in.Kinds {
		b.kinds[in.Kinds[i].Kind] = &in.Kinds[i]
	}
	for name, from := range b.declaredAt {
		if !b.recorded(name) {
			b.newcomers[name] = []Cause{{Kind: ByNew, Text: b.comes(name), From: &from}}
		}
	}
	return b
}

// spec returns the platform's description of an attribute; unknown ones can change in place.
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
	wanted := b.in.Wanted
	decided := make([]decision, len(wanted))
	// Each resource is decided independently, in ranges in which all three lists are walked together.
	cores.Share(len(decided), func(from, to int) {
		record, actual := b.in.Record, b.in.Actual
		for i := from; i < to; i++ {
			w := &wanted[i]
			record, actual = onward(record, w.Address, Recorded.at), onward(actual, w.Address, Actual.at)
			if !b.renamed[w.Address] { // the step that renames it writes the desired state
				decided[i] = b.want(w, first(record, w.Address, Recorded.at), first(actual, w.Address, Actual.at))
			}
		}
	})
	changing := 0
	for i := range decided {
		if decided[i].step != nil {
			changing++
		}
	}
	b.steps = slices.Grow(b.steps, changing)
	at := make(map[string]int, len(b.at)+changing)
	maps.Copy(at, b.at)
	b.at = at
	for i := range decided {
		switch d := &decided[i]; {
		case d.problem != nil:
			b.blockers = append(b.blockers, *d.problem)
		case d.step != nil:
			b.add(*d.step)
		case !b.renamed[wanted[i].Address]:
			b.unchanged++
		}
	}
	left := wanted
	for i := range b.in.Record {
		r := &b.in.Record[i]
		if left = onward(left, r.Address, addressOf); first(left, r.Address, addressOf) == nil {
			b.remove(r)
		}
	}
	b.deletions()
}

// deletions adds a step for each unmanaged resource to delete.
func (b *builder) deletions() {
	addresses := slices.Clone(b.in.Deletions)
	slices.Sort(addresses)
	for _, address := range slices.Compact(addresses) {
		actual := b.liveAt(address)
		if actual == nil || b.recordedAt(address) != nil || b.wantedAt(address) != nil {
			continue // it is deleted already, or managed by Rudmar
		}
		s := Step{Address: address, Kind: actual.Kind, Function: resource.FunctionOf(address), Change: resource.Delete,
			Tag: actual.Tag, Attributes: b.changes(actual.Kind, b.settable(actual.Kind, actual.Attributes), nil, nil),
			Because: []Cause{{Kind: ByDrift, Text: "unmanaged resource, deletion requested"}}}
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

// same reports whether a resource is recorded and live just as it is desired: of most it is, and no more has to
// be known of them.
func (b *builder) same(w *expand.Resource, record *Recorded, actual *Actual) bool {
	if record == nil || actual == nil || len(record.Attributes) != len(w.Attributes) {
		return false
	}
	for i := range w.Attributes {
		a := &w.Attributes[i]
		was, recorded := record.Attributes[a.Name]
		is, there := actual.Attributes[a.Name]
		if !recorded || !there || !canon.Equal(was, a.Value) || !canon.Equal(is, a.Value) {
			return false
		}
	}
	if len(actual.Attributes) == len(w.Attributes) {
		return true
	}
	for name := range actual.Attributes {
		if _, known := record.Attributes[name]; !known && !b.spec(w.Kind, name).Computed {
			return false
		}
	}
	return true
}

// decision is the decision about a desired resource: a step, a blocker, or nothing.
type decision struct {
	step    *Step
	problem *Blocker
}

// want decides about one desired resource, with the reasons. It does not change the builder.
func (b *builder) want(w *expand.Resource, record *Recorded, actual *Actual) decision {
	if b.kinds[w.Kind] == nil {
		from := firstOrigin(w)
		return decision{problem: &Blocker{Message: fmt.Sprintf("the platform has no resources of kind %q", w.Kind),
			Address: w.Address, From: &from}}
	}
	if b.same(w, record, actual) {
		return decision{}
	}
	at := states{wanted: w.Values()}
	if record != nil {
		at.record = present(record.Attributes)
	}
	s := Step{Address: w.Address, Kind: w.Kind, Function: w.Function, Want: at.wanted, WantNeeds: w.Needs}
	if record == nil && actual == nil { // for most, a stage or a function is new
		s.Change, s.Attributes, s.Because = resource.Create, b.creates(w), b.newCause(w)
		return decision{step: &s}
	}
	if actual != nil {
		at.actual, s.Tag = b.settable(w.Kind, actual.Attributes), actual.Tag
	}
	o := at.outcome(func(names []string) bool { return b.inPlace(w.Kind, names) })
	s.Change, s.RecordOnly, s.RevertsDrift = o.Change, o.RecordOnly, o.RevertsDrift
	switch {
	case o.Conflict:
		from := firstOrigin(w)
		return decision{problem: &Blocker{Address: w.Address, From: &from, Message: fmt.Sprintf(
			"%s already exists, was not created by Rudmar, and cannot be updated to the required state (%s cannot change in place); delete it or rename the resource", w.Address, strings.Join(differences(at.actual, at.wanted), ", "))}}
	case o.Change == "" || b.left(w.Address, at):
		return decision{}
	case o.Change == resource.Create:
		s.Attributes = b.changes(w.Kind, nil, at.wanted, nil)
		s.Because = append([]Cause{{Kind: ByVanished, Text: "deleted outside Rudmar"}},
			b.causes(w, differences(at.record, at.wanted))...)
	case o.Change == resource.Adopt:
		s.Attributes = b.changes(w.Kind, at.actual, at.wanted, nil)
		s.Because = append(b.newCause(w), Cause{Kind: ByDrift, Text: "already exists, not created by Rudmar"})
	case o.Change == resource.Restore || o.RevertsDrift && len(differences(at.record, at.wanted)) == 0:
		s.Attributes = b.changes(w.Kind, at.record, at.wanted, at.actual)
		s.Because = []Cause{{Kind: ByDrift, Text: "changed outside Rudmar: " + strings.Join(differences(at.record, at.actual), ", ")}}
	default:
		s.Attributes = b.changes(w.Kind, at.record, at.wanted, at.actual)
		s.Because = b.causes(w, differences(at.record, at.wanted))
		if o.RevertsDrift {
			s.Because = append(s.Because,
				Cause{Kind: ByDrift, Text: "also changed outside Rudmar: " + strings.Join(differences(at.record, at.actual), ", ")})
		}
	}
	return decision{step: &s}
}

// left reports whether a resource differs only by ignored drift. If the resource changes for another reason it
// is set to the desired state, and the plan says that this reverts ignored drift.
func (b *builder) left(address string, at states) bool {
	if len(b.in.LeftAlone) == 0 || at.record == nil || len(differences(at.record, at.wanted)) > 0 {
		return false
	}
	if kind, fn := resource.Split(address); at.actual != nil && (kind == resource.Revision || kind == resource.Pointer) {
		// Resources that follow from a function's ignored drift are ignored with it.
		function := resource.Function + "/" + fn
		record, actual, wanted := b.recordedAt(function), b.liveAt(function), b.wantedOf(function)
		if record != nil && actual != nil && wanted != nil {
			of := states{record: record.Attributes, actual: b.settable(resource.Function, actual.Attributes), wanted: wanted}
			if len(differences(of.record, of.actual)) > 0 {
				return b.left(function, of)
			}
		}
	}
	leaves := func(attribute string, actual any) bool {
		return slices.ContainsFunc(b.in.LeftAlone, func(l IgnoredDrift) bool {
			return l.Address == address && l.Attribute == attribute && canon.Equal(l.Actual, actual)
		})
	}
	if at.actual == nil {
		return leaves("", nil)
	}
	for _, name := range differences(at.record, at.actual) {
		if !leaves(name, at.actual[name]) {
			return false
		}
	}
	return true
}

// wantedOf returns the desired attributes of a resource; nil if it is not desired.
func (b *builder) wantedOf(address string) map[string]any {
	if w := b.wantedAt(address); w != nil {
		return w.Values()
	}
	return nil
}

func (b *builder) remove(r *Recorded) {
	at := states{record: present(r.Attributes)}
	s := Step{Address: r.Address, Kind: r.Kind, Function: r.Function}
	if actual := b.liveAt(r.Address); actual != nil {
		at.actual, s.Tag = b.settable(r.Kind, actual.Attributes), actual.Tag
	}
	o := at.outcome(func([]string) bool { return true })
	s.Change, s.RecordOnly = o.Change, o.RecordOnly
	s.Attributes = b.changes(r.Kind, r.Attributes, nil, nil)
	cause := Cause{Kind: ByRemoval, Text: b.dropped(r.Address)}
	switch {
	case b.in.Left != "":
		cause.Text = b.in.Left
	case !b.declared(r.Function):
		cause.Text = fmt.Sprintf("function %s is not in version %d", r.Function, b.in.Base.Version)
		if by := b.in.Dropped[r.Address]; by > 0 {
			cause.Text = fmt.Sprintf("version %d removed function %s", by, r.Function)
		} else if b.in.Draft {
			cause.Text = "the edit removes function " + r.Function
		}
		for _, name := range slices.Sorted(maps.Keys(b.in.Renamed)) {
			if was := b.in.Renamed[name]; was == r.Function {
				cause.Text = fmt.Sprintf("function %s is now called %s", was, name)
			}
		}
	}
	s.Because = []Cause{cause}
	b.add(s)
}

// dropped returns why a recorded resource is not desired.
func (b *builder) dropped(address string) string {
	switch by := b.in.Dropped[address]; {
	case by > 0:
		return fmt.Sprintf("version %d no longer declares it", by)
	case b.in.Draft:
		return "the edit no longer declares it"
	case b.in.Base.Version < b.in.Base.From: // an earlier version is deployed
		return fmt.Sprintf("version %d does not declare it", b.in.Base.Version)
	}
	return fmt.Sprintf("version %d no longer declares it", b.in.Base.Version)
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

// settable leaves out computed attributes.
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

// changes lists the change of each attribute; live is set only if it can differ from the record.
func (b *builder) changes(kind string, before, after, actual map[string]any) []AttributeChange {
	names := differences(before, after)
	if actual != nil {
		names = append(names, differences(before, actual)...)
		sort.Strings(names)
		names = slices.Compact(names)
	}
	out := make([]AttributeChange, 0, len(names))
	for _, name := range names {
		c := AttributeChange{Name: name, Before: before[name], After: after[name], Unit: b.spec(kind, name).Unit}
		if actual != nil && !canon.Equal(before[name], actual[name]) {
			c.Actual, c.Drifted = actual[name], true
		}
		out = append(out, c)
	}
	return out
}

// creates lists the attributes of a resource that is not there yet.
func (b *builder) creates(w *expand.Resource) []AttributeChange {
	out := make([]AttributeChange, len(w.Attributes))
	for i, a := range w.Attributes { // they are sorted by name
		out[i] = AttributeChange{Name: a.Name, After: a.Value, Unit: b.spec(w.Kind, a.Name).Unit}
	}
	return out
}

// newCause returns why a resource is new. That the function is there is the reason, not some
// line that the resource has a value of.
func (b *builder) newCause(w *expand.Resource) []Cause {
	if causes, ok := b.newcomers[w.Function]; ok {
		return causes
	}
	text := "newly declared"
	if !b.recorded(w.Function) {
		text = b.comes(w.Function)
	}
	from := firstOrigin(w)
	if from.File == "" {
		return []Cause{{Kind: ByNew, Text: text}}
	}
	return []Cause{{Kind: ByNew, Text: text, From: &from}}
}

// comes returns why a function that is not recorded is created.
func (b *builder) comes(fn string) string {
	if was := b.in.Renamed[fn]; was != "" {
		return fmt.Sprintf("function %s was renamed from %s", fn, was)
	}
	return fmt.Sprintf("function %s is new in this stage", fn)
}

func (b *builder) recorded(fn string) bool { return b.recordedFunctions[fn] }

// causes returns the reasons why a recorded resource is to become another.
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
		out = append(out, Cause{Kind: BySetting, Text: a.Name + ": a secret changed in " + b.in.Base.Stage +
			", or the reference to it"})
	}
	for _, through := range a.Through {
		kind, text := BySetting, "a setting's default"
		if through.Rule == tree.OfStage {
			text = "the values set in " + b.in.Base.Stage + ""
		}
		t := through
		out = append(out, Cause{Kind: kind, Text: a.Name + ": " + text, From: &t})
	}
	kind, text := ByManifest, a.Name
	switch from.Rule {
	case tree.Defaults:
		kind, text = ByDefault, a.Name+": the service's default"
	case tree.BuiltIn:
		return append(out, Cause{Kind: ByBuiltIn, Text: a.Name + ": the Rudmar default"})
	case tree.OfStage:
		text = a.Name + ": from " + b.in.Base.Stage
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

// weighed are the kinds of resources that have impact; of functions and schedules those in a step, if there are
// observations.
func weighed(kind string, touched, observed bool) bool {
	switch kind {
	case resource.Grant, resource.Opening, resource.Route, resource.Subscription:
		return true
	case resource.Function, resource.Schedule:
		return touched && observed
	}
	return false
}

// states returns the inputs of the impact. It can be called concurrently with the ordering of steps.
func (b *builder) states(observed bool) (before, after []impact.Resource, touched map[string]resource.Change) {
	touched = make(map[string]resource.Change, len(b.steps))
	// If no resource of their kinds changes, access and permissions are unchanged.
	whole := false
	for i := range b.steps { // only these fields of each step: the others are filled concurrently
		s := &b.steps[i]
		touched[s.Address] = s.Change
		whole = whole || weighed(s.Kind, false, false)
	}
	if len(b.steps) == 0 {
		return nil, nil, touched // an unchanged resource has no impact
	}
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
				impact.Resource{Address: r.Address, Kind: r.Kind, Function: r.Function, Attributes: r.Attributes})
		}
	}
	for i := range b.in.Wanted {
		w := &b.in.Wanted[i]
		if !stands(w.Address, w.Kind) {
			continue
		}
		r := impact.Resource{Address: w.Address, Kind: w.Kind, Function: w.Function, Attributes: w.Values()}
		if from := firstOrigin(w); from.File != "" {
			r.From = &from
		}
		after = append(after, r)
	}
	return before, after, touched
}
