package plan

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"rudmar/core/canon"
	"rudmar/core/resource"
)

// Drift is a resource that is live different from it was recorded.
type Drift struct {
	Address  string `json:"address"`
	Kind     string `json:"kind"`
	Function string `json:"function"`
	// Vanished means recorded but not actual; Unknown means actual but not recorded.
	Vanished bool `json:"vanished,omitempty"`
	Unknown  bool `json:"unknown,omitempty"`
	// Since is when Rudmar detected it, Changed when it was changed, as reported by the platform; Unix
	// milliseconds, 0 if unknown.
	Since   int64 `json:"since,omitempty"`
	Changed int64 `json:"changed,omitempty"`
	// By is the key of the request that changed it, if the platform reports it.
	By string `json:"by,omitempty"`
	// Follows is the address of the drift that caused this one.
	Follows string `json:"follows,omitempty"`
	// Left is why somebody ignores that it was deleted, or is unmanaged.
	Left       *IgnoredDrift   `json:"ignored,omitempty"`
	Attributes []DriftedDetail `json:"attributes"`
}

// IgnoredDrift is drift that somebody ignores.
type IgnoredDrift struct {
	Address   string `json:"address"`
	Attribute string `json:"attribute,omitempty"` // "" for the resource: that it was deleted, or is unmanaged
	Actual    any    `json:"actual,omitempty"`    // the ignored value; another value is drift again
	Reason    string `json:"reason"`
	Person    string `json:"person"`
	At        int64  `json:"at"`              // Unix milliseconds
	Until     int64  `json:"until,omitempty"` // Unix milliseconds; 0 for no end
}

// holds reports whether it is ignored at a time.
func (l *IgnoredDrift) holds(now time.Time) bool { return l.Until == 0 || now.UnixMilli() < l.Until }

// Open reports whether it needs a decision: not all of it is ignored, and no other drift causes it.
func (d *Drift) Open() bool {
	if d.Follows != "" || d.Left != nil {
		return false
	}
	return d.Vanished || d.Unknown ||
		slices.ContainsFunc(d.Attributes, func(a DriftedDetail) bool { return a.Left == nil })
}

// DriftedDetail is one attribute that differs. Absent values are null.
type DriftedDetail struct {
	Name     string        `json:"name"`
	Recorded any           `json:"recorded"`
	Actual   any           `json:"actual"`
	Unit     string        `json:"unit,omitempty"`
	Since    int64         `json:"since,omitempty"` // when it was detected, Unix milliseconds
	Left     *IgnoredDrift `json:"ignored,omitempty"`
}

// FindDrift compares the record with live, attribute by attribute, sorted by address.
func FindDrift(record []Recorded, actual []Actual, kinds []KindSpec) []Drift {
	b := newBuilder(Inputs{Record: record, Actual: actual, Kinds: kinds})
	out := []Drift{}
	for i := range record {
		r := &record[i]
		d := Drift{Address: r.Address, Kind: r.Kind, Function: r.Function, Attributes: []DriftedDetail{}}
		l := b.liveAt(r.Address)
		if l == nil {
			d.Vanished = true
			out = append(out, d)
			continue
		}
		d.Changed, d.By = l.Changed, l.By
		there := b.settable(r.Kind, l.Attributes)
		for _, name := range differences(r.Attributes, there) {
			d.Attributes = append(d.Attributes,
				DriftedDetail{Name: name, Recorded: r.Attributes[name], Actual: there[name], Unit: b.spec(r.Kind, name).Unit})
		}
		if len(d.Attributes) > 0 {
			out = append(out, d)
		}
	}
	for i := range actual {
		if b.recordedAt(actual[i].Address) == nil {
			l := &actual[i]
			out = append(out, Drift{Address: l.Address, Kind: l.Kind, Function: resource.FunctionOf(l.Address),
				Unknown: true, Changed: l.Changed, By: l.By, Attributes: []DriftedDetail{}})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address < out[j].Address })
	followed(out)
	return out
}

// followed marks the revisions and pointers that a function changed by hand brings with it.
func followed(drift []Drift) {
	changed := map[string]bool{}
	for i := range drift {
		changed[drift[i].Address] = true
	}
	for i := range drift {
		d := &drift[i]
		function, revision := resource.Function+"/"+d.Function, resource.Revision+"/"+d.Function
		switch {
		case d.Kind == resource.Revision && changed[function],
			d.Kind == resource.Pointer && changed[revision] && changed[function]:
			d.Follows = function
		case d.Kind == resource.Pointer && changed[revision]:
			d.Follows = revision
		}
	}
}

// Seen copies from an earlier observation since when drift exists; new drift exists since now. It marks ignored
// drift.
func Seen(drift, before []Drift, left []IgnoredDrift, now time.Time) []Drift {
	old := map[string]*Drift{}
	for i := range before {
		old[before[i].Address] = &before[i]
	}
	leftOf := func(address, attribute string, actual any) *IgnoredDrift {
		for i := range left {
			if l := &left[i]; l.Address == address && l.Attribute == attribute && l.holds(now) && canon.Equal(l.Actual, actual) {
				return l
			}
		}
		return nil
	}
	out := slices.Clone(drift)
	for i := range out {
		d := &out[i]
		was := old[d.Address]
		d.Since = now.UnixMilli()
		if was != nil && was.Since > 0 && was.Vanished == d.Vanished && was.Unknown == d.Unknown {
			d.Since = was.Since
		}
		if d.Vanished || d.Unknown {
			d.Left = leftOf(d.Address, "", nil)
		}
		d.Attributes = slices.Clone(d.Attributes)
		for j := range d.Attributes {
			a := &d.Attributes[j]
			a.Since = now.UnixMilli()
			if was != nil {
				for _, b := range was.Attributes {
					if b.Name == a.Name && canon.Equal(b.Actual, a.Actual) && b.Since > 0 {
						a.Since = b.Since
					}
				}
			}
			a.Left = leftOf(d.Address, a.Name, a.Actual)
		}
	}
	return out
}

// The kinds of differences between actual and recorded state.
const (
	DriftChanged   = "changed"
	DriftDeleted   = "deleted"
	DriftUnmanaged = "unmanaged"
)

// DriftChange is one difference between actual and recorded state: of an attribute, or of a whole resource.
type DriftChange struct {
	Kind      string `json:"-"` // one of the constants above
	Resource  string `json:"resource"`
	Attribute string `json:"attribute,omitempty"`
	Before    any    `json:"before,omitempty"` // the recorded value
	After     any    `json:"after,omitempty"`  // the actual value
	unit      string
	key       string // what identifies it beside its value
}

// String returns the difference as a person reads it.
func (c DriftChange) String() string {
	if c.Attribute == "" {
		return c.Resource
	}
	return fmt.Sprintf("%s: %s %s → %s", c.Resource, c.Attribute, plain(c.Before, c.unit), plain(c.After, c.unit))
}

// CompareDrift returns the differences that began and those that ended between two observations. A difference that
// follows from another one, and a new one that somebody ignores, is not among them; an attribute that has yet
// another value has begun to differ again.
func CompareDrift(before, after []Drift) (began, ended []DriftChange) {
	was, is := driftChanges(before), driftChanges(after)
	known := map[string]DriftChange{}
	for _, c := range was {
		known[c.key] = c.DriftChange
	}
	here := map[string]bool{}
	for _, c := range is {
		here[c.key] = true
		if old, ok := known[c.key]; !c.ignored && (!ok || !canon.Equal(old.After, c.After)) {
			began = append(began, c.DriftChange)
		}
	}
	for _, c := range was {
		if !here[c.key] {
			ended = append(ended, c.DriftChange)
		}
	}
	return began, ended
}

type driftChange struct {
	DriftChange
	ignored bool
}

func driftChanges(drift []Drift) []driftChange {
	var out []driftChange
	for i := range drift {
		d := &drift[i]
		c := driftChange{DriftChange: DriftChange{Resource: d.Address}, ignored: d.Left != nil}
		switch {
		case d.Follows != "":
			continue
		case d.Vanished || d.Unknown:
			c.Kind = DriftDeleted
			if d.Unknown {
				c.Kind = DriftUnmanaged
			}
			c.key = c.Kind + " " + d.Address
			out = append(out, c)
			continue
		}
		for _, a := range d.Attributes {
			c.DriftChange = DriftChange{Kind: DriftChanged, Resource: d.Address, Attribute: a.Name, Before: a.Recorded,
				After: a.Actual, unit: a.Unit, key: strings.Join([]string{DriftChanged, d.Address, a.Name}, " ")}
			c.ignored = a.Left != nil
			out = append(out, c)
		}
	}
	return out
}
