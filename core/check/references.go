package check

import (
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// urlReference is a reference to the address of a function of the service.
type urlReference struct {
	function string
	at       diagnostic.Range
}

// references checks the names in every template of a function or of defaults, and returns the addresses that they refer
// to.
func (w *whole) references(n *tree.Node, functions []string) (urls []urlReference) {
	if n == nil || n.Kind != tree.Mapping {
		return nil
	}
	if env := n.Get("env"); env != nil && env.Kind == tree.Mapping {
		for _, item := range env.Items {
			urls = append(urls, w.reference(item, functions, true)...)
		}
	}
	if triggers := n.Get("triggers"); triggers != nil && triggers.Kind == tree.Mapping {
		for _, t := range triggers.Items {
			for _, key := range []string{"queue", "objects", "match"} {
				w.reference(t.Get(key), functions, false)
			}
		}
	}
	if permissions := n.Get("permissions"); permissions != nil {
		for _, p := range permissions.Items {
			w.reference(p.Get("resource"), functions, false)
		}
	}
	return urls
}

func (w *whole) reference(n *tree.Node, functions []string, inEnv bool) (urls []urlReference) {
	if n == nil || n.Kind != tree.Scalar || !strings.Contains(n.Text, "${") {
		return nil
	}
	template, err := manifest.ParseTemplate(n.Text)
	if err != nil {
		return nil // already reported
	}
	for _, part := range template {
		prefix := len("${") + len(part.Kind) + 1
		at := n.Part(part.Offset+prefix, len(part.Name))
		switch part.Kind {
		case manifest.ToSetting:
			if w.out.Setting(part.Name) == nil && w.reads("settings") {
				w.unknownName(at, part.Name, "setting", w.settingNames())
			}
		case manifest.ToSecret:
			switch {
			case !inEnv:
				w.add(diagnostic.CodeReferencePlace, n.Part(part.Offset, part.Length), "secrets are only allowed in env")
			case !slices.Contains(w.out.Secrets, part.Name) && w.reads("secrets"):
				w.unknownName(at, part.Name, "secret", w.out.Secrets)
			}
		case manifest.ToURL:
			if !contains(functions, part.Name) {
				w.unknownName(at, part.Name, "function", functions)
			} else {
				urls = append(urls, urlReference{part.Name, n.Part(part.Offset, part.Length)})
			}
		}
	}
	return urls
}
