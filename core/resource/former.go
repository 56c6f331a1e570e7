package resource

// PresentAttribute returns the present name of an attribute of a kind, for data stored
// under a former name. Other names are returned unchanged.
func PresentAttribute(kind, name string) string {
	switch {
	case kind == Function && name == "at_once":
		return "max_concurrency"
	case kind == Logs && name == "keep":
		return "retention"
	case kind == Subscription && name == "on":
		return "events"
	case kind == Subscription && name == "batch":
		return "batch_size"
	case kind == Subscription && name == "wait":
		return "max_wait"
	}
	return name
}

// PresentValue returns the present form of an attribute's value: the callers of an
// opening are named as in manifests.
func PresentValue(kind string, v any) any {
	if list, ok := v.([]any); ok && kind == Opening && len(list) == 1 && list[0] == "members" {
		return []any{"authenticated"}
	}
	return v
}

// PresentAttributes returns attributes of a kind under their present names.
func PresentAttributes(kind string, attributes map[string]any) map[string]any {
	out := make(map[string]any, len(attributes))
	for name, v := range attributes {
		out[PresentAttribute(kind, name)] = PresentValue(kind, v)
	}
	return out
}
