package impact

import (
	"maps"
	"slices"
	"strings"

	"rudmar/core/access"
	"rudmar/core/resource"
)

// Through is a function that can now start another one: it gains the other's permissions indirectly.
type Through struct {
	Function string   `json:"function"`
	Via      []string `json:"via"` // the path: "queues/alerts", "relay", …, the last function at its end
	// May is what the last function can do, or what it can do now if the path existed before.
	May []string `json:"permissions"`
}

// feeding has, per kind of source, the kind of resource and the verbs of the permissions that feed it.
func feeding(source string) (kind string, verbs []string) {
	switch source {
	case "queue":
		return "queues", []string{"send"}
	case "objects":
		return "objects", []string{"write", "delete"}
	}
	return "", nil
}

// way is how one function starts another one: its source and target.
type way struct{ by, function string }

// ways returns, per function, the functions that it starts directly.
func ways(resources []Resource, grants map[string][]access.Statement) map[string][]way {
	out := map[string][]way{}
	for _, r := range resources {
		if r.Kind != resource.Subscription || r.Attributes["enabled"] == false {
			continue
		}
		text, _ := r.Attributes["source"].(string)
		kind, name, _ := strings.Cut(text, "/")
		if kind == "function" {
			out[name] = append(out[name], way{text, r.Function})
			continue
		}
		fedBy, verbs := feeding(kind)
		if fedBy == "" {
			continue
		}
		source := fedBy + "/" + name
		for fn, statements := range grants {
			if feeds(statements, verbs, source) {
				out[fn] = append(out[fn], way{source, r.Function})
			}
		}
	}
	for fn := range out {
		slices.SortFunc(out[fn], func(a, b way) int { return strings.Compare(a.function+" "+a.by, b.function+" "+b.by) })
		out[fn] = slices.Compact(out[fn])
	}
	return out
}

// feeds reports whether statements allow writing to a source, or to a part of it.
func feeds(statements []access.Statement, verbs []string, source string) bool {
	for _, s := range statements {
		if !access.Covers(s.Resource, source) && !access.Covers(source+"/*", s.Resource) {
			continue
		}
		if slices.ContainsFunc(s.Verbs, func(v string) bool { return v == "*" || slices.Contains(verbs, v) }) {
			return true
		}
	}
	return false
}

// from returns the shortest path from a function to each function that it starts, directly or indirectly, by
// the last function.
func from(fn string, direct map[string][]way) map[string][]string {
	out := map[string][]string{}
	queue := []string{fn}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, w := range direct[at] {
			if _, known := out[w.function]; known || w.function == fn {
				continue
			}
			out[w.function] = append(slices.Clone(out[at]), w.by, w.function)
			queue = append(queue, w.function)
		}
	}
	return out
}

// through lists the indirect permissions that functions gain: by a new path, or by new permissions of the last
// function.
func through(before, after []Resource, had, has map[string][]access.Statement) []Through {
	was, is := ways(before, had), ways(after, has)
	out := []Through{}
	for _, fn := range slices.Sorted(maps.Keys(is)) {
		old, now := from(fn, was), from(fn, is)
		for _, end := range slices.Sorted(maps.Keys(now)) {
			base := []access.Statement(nil)
			if _, there := old[end]; there {
				base = had[end]
			}
			var may []string
			for _, g := range reach(end, access.Gained(slices.Concat(base, has[fn]), has[end])) {
				may = append(may, strings.Join(g.Verbs, ", ")+" "+g.Resource)
			}
			if len(may) > 0 {
				out = append(out, Through{Function: fn, Via: now[end], May: may})
			}
		}
	}
	return out
}
