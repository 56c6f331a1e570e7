package plan

import (
	"slices"
	"strings"

	"rudmar/core/expand"
)

// Desired, recorded and actual resources are looked up in sorted lists: for many resources, a map of each would
// cost more than the comparison.

func (r Recorded) at() string            { return r.Address }
func (l Actual) at() string              { return l.Address }
func addressOf(w expand.Resource) string { return w.Address }

func (b *builder) wantedAt(address string) *expand.Resource {
	return find(b.in.Wanted, address, addressOf)
}
func (b *builder) recordedAt(address string) *Recorded {
	return find(b.in.Record, address, Recorded.at)
}
func (b *builder) liveAt(address string) *Actual { return find(b.in.Actual, address, Actual.at) }

// sorted returns a list sorted by address: the same list if it is sorted already.
func sorted[T any](list []T, at func(T) string) []T {
	byAddress := func(a, b T) int { return strings.Compare(at(a), at(b)) }
	if slices.IsSortedFunc(list, byAddress) {
		return list
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, byAddress)
	return list
}

// place returns the index of an address in a list, or its insertion index.
func place[T any](list []T, address string, at func(T) string) int {
	i, _ := slices.BinarySearchFunc(list, address, func(v T, a string) int { return strings.Compare(at(v), a) })
	return i
}

// find returns the item with an address; nil if there is none.
func find[T any](list []T, address string, at func(T) string) *T {
	return first(list[place(list, address, at):], address, at)
}

// onward skips the items before an address. A sequential reader needs few steps; one that starts in the middle
// makes larger ones.
func onward[T any](list []T, address string, at func(T) string) []T {
	for n := range min(len(list), 8) {
		if at(list[n]) >= address {
			return list[n:]
		}
	}
	return list[place(list, address, at):]
}

// first returns the first of a list if it has an address, else nil.
func first[T any](list []T, address string, at func(T) string) *T {
	if len(list) == 0 || at(list[0]) != address {
		return nil
	}
	return &list[0]
}
