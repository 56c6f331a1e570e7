package plan

import (
	"slices"
	"strings"

	"rudmar/core/expand"
)

// What is wanted, recorded and live is looked up in lists that stand in the order of
// their addresses: of many resources a map of each would cost more than the comparison.

func (r Recorded) at() string                    { return r.Address }
func (l Live) at() string                        { return l.Address }
func addressOf(w expand.Resource) string         { return w.Address }
func (b *builder) liveAt(a string) *Live         { return find(b.in.Live, a, Live.at) }
func (b *builder) recordedAt(a string) *Recorded { return find(b.in.Record, a, Recorded.at) }

// sorted gives a list in the order of its addresses: itself where it is so already.
func sorted[T any](list []T, at func(T) string) []T {
	byAddress := func(a, b T) int { return strings.Compare(at(a), at(b)) }
	if slices.IsSortedFunc(list, byAddress) {
		return list
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, byAddress)
	return list
}

// find gives what has an address; nil where nothing has.
func find[T any](list []T, address string, at func(T) string) *T {
	i, found := slices.BinarySearchFunc(list, address, func(v T, a string) int { return strings.Compare(at(v), a) })
	if !found {
		return nil
	}
	return &list[i]
}

// onward leaves out what stands before an address. Who walks along a list is there after
// a few steps; who begins in its middle takes larger ones.
func onward[T any](list []T, address string, at func(T) string) []T {
	for n := range list {
		if at(list[n]) >= address {
			return list[n:]
		}
		if n == 8 {
			i, _ := slices.BinarySearchFunc(list, address, func(v T, a string) int { return strings.Compare(at(v), a) })
			return list[i:]
		}
	}
	return nil
}

// first gives the first of a list if it has an address, else nil.
func first[T any](list []T, address string, at func(T) string) *T {
	if len(list) == 0 || at(list[0]) != address {
		return nil
	}
	return &list[0]
}
