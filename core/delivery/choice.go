package delivery

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/manifest"
)

// ErrSelection reports that a choice of functions makes no sense.
var ErrSelection = errors.New("these functions cannot be selected")

// Choice is which functions of a version enter a stage. The others stay there as they
// are: each at the version that it came with.
type Choice struct {
	Functions []string `json:"functions"` // the selected functions, sorted
	// Kept is the version of each other function, including functions that the version no longer has; 0 for one
	// that is not deployed.
	Kept map[string]int `json:"kept"`
}

// Choose makes a choice of functions that differ between what is in a stage and a version that is to enter. Of
// is at which version each function of the two is there, 0 for not at all. A function that has another name now
// is one with what it was. It is nil if nothing that differs is left out. The error wraps ErrSelection.
func Choose(own *manifest.Service, differing []string, of map[string]int, chosen []string) (*Choice, error) {
	if len(chosen) == 0 {
		return nil, fmt.Errorf("%w: select at least one", ErrSelection)
	}
	enter := map[string]bool{}
	for _, name := range chosen {
		if !slices.Contains(differing, name) {
			return nil, fmt.Errorf("%w: %q is unchanged; select from %s", ErrSelection, name,
				strings.Join(differing, ", "))
		}
		enter[name] = true
	}
	for _, fn := range own.Functions { // a rename is selected as a whole
		if was := fn.RenamedFrom; was != "" && of[was] > 0 && own.Function(was) == nil && (enter[fn.Name] || enter[was]) {
			enter[fn.Name], enter[was] = true, true
		}
	}
	c := (&Choice{Functions: slices.Sorted(maps.Keys(enter))}).Beside(own, of)
	if !slices.ContainsFunc(differing, func(name string) bool { return !enter[name] }) {
		return nil, nil
	}
	return c, nil
}

// Beside returns the choice where other functions are in the stage than when it was made:
// those that are not chosen stay as they are now.
func (c *Choice) Beside(own *manifest.Service, of map[string]int) *Choice {
	out := &Choice{Functions: c.Functions, Kept: map[string]int{}}
	for name, version := range of {
		if !c.Enters(name) {
			out.Kept[name] = version
		}
	}
	for _, fn := range own.Functions {
		if of[fn.Name] == 0 && !c.Enters(fn.Name) {
			out.Kept[fn.Name] = 0
		}
	}
	return out
}

// Enters reports whether a function comes in by the choice; all do if there is none.
func (c *Choice) Enters(function string) bool {
	return c == nil || slices.Contains(c.Functions, function)
}

// Version returns the version that a function is at, where another one came in by the
// choice: that one, or what it was left at.
func (c *Choice) Version(function string, entered int) int {
	if c == nil || c.Enters(function) {
		return entered
	}
	if v, there := c.Kept[function]; there {
		return v
	}
	return entered
}

// AllowsPartial reports whether who asks for an entry may choose functions: all rules that
// hold there have to allow it.
func (e Entry) AllowsPartial() bool {
	rules := e.Rules()
	return len(rules) > 0 && !e.Removes() &&
		!slices.ContainsFunc(rules, func(s *manifest.Stage) bool { return !s.AllowPartial || s.When != manifest.OnRequest })
}
