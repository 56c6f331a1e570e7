package delivery

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/manifest"
)

// ErrSelection reports an invalid selection of functions.
var ErrSelection = errors.New("these functions cannot be selected")

// Choice selects the functions of a version that enter a stage. The others stay at their versions.
type Choice struct {
	Functions []string `json:"functions"` // the selected functions, sorted
	// Kept is the version of each other function, including functions that the version no longer has; 0 for one
	// that is not deployed.
	Kept map[string]int `json:"kept"`
}

// Choose returns a selection of functions that differ between a stage and a version. Of is the version of each
// function on both sides, 0 for none. A renamed function counts as one. It returns nil if the selection
// includes all differences. The error wraps ErrSelection.
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

// Beside returns the selection for a stage with other functions than when it was made: functions that are not
// selected stay unchanged.
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

// Enters reports whether the selection includes a function; nil includes all.
func (c *Choice) Enters(function string) bool {
	return c == nil || slices.Contains(c.Functions, function)
}

// Version returns the version of a function after the selection was deployed.
func (c *Choice) Version(function string, entered int) int {
	if c == nil || c.Enters(function) {
		return entered
	}
	if v, there := c.Kept[function]; there {
		return v
	}
	return entered
}

// AllowsPartial reports whether a delivery request can select functions: all rules that apply must allow it.
func (e Entry) AllowsPartial() bool {
	rules := e.Rules()
	return len(rules) > 0 && !e.Removes() &&
		!slices.ContainsFunc(rules, func(s *manifest.Stage) bool { return !s.AllowPartial || s.When != manifest.OnRequest })
}
