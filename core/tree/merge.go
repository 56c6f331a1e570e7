package tree

import "slices"

// Merge overlays over on base: mappings by key, everything else is replaced, and null removes a key. It changes
// neither.
func Merge(base, over *Node) *Node {
	switch {
	case over == nil:
		return base
	case base == nil || base.Kind != Mapping || over.Kind != Mapping:
		return withoutNulls(over)
	}
	out := over.empty()
	room := len(base.Keys) + len(over.Keys)
	out.Keys, out.Items = make([]*Node, 0, room), make([]*Node, 0, room)
	for i, k := range base.Keys {
		top := over.Get(k.Text)
		switch {
		case top == nil:
			out.Keys, out.Items = append(out.Keys, k), append(out.Items, base.Items[i])
		case top.Kind != Null:
			out.Keys, out.Items = append(out.Keys, over.Key(k.Text)), append(out.Items, Merge(base.Items[i], top))
		}
	}
	for i, k := range over.Keys {
		if base.Get(k.Text) == nil && over.Items[i].Kind != Null {
			out.Keys, out.Items = append(out.Keys, k), append(out.Items, withoutNulls(over.Items[i]))
		}
	}
	return out
}

// withoutNulls removes keys that are null, at every depth.
func withoutNulls(n *Node) *Node {
	if n.Kind != Mapping || !hasNulls(n) {
		return n
	}
	out := n.empty()
	for i, k := range n.Keys {
		if n.Items[i].Kind != Null {
			out.Keys, out.Items = append(out.Keys, k), append(out.Items, withoutNulls(n.Items[i]))
		}
	}
	return out
}

func hasNulls(n *Node) bool {
	return n.Kind == Mapping &&
		slices.ContainsFunc(n.Items, func(item *Node) bool { return item.Kind == Null || hasNulls(item) })
}

// empty returns a mapping without keys at the same place.
func (n *Node) empty() *Node {
	out := *n
	out.Kind, out.Keys, out.Items = Mapping, nil, nil
	return &out
}
