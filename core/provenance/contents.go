package provenance

import (
	"bytes"
	"encoding/json"
	"path"
	"regexp"
	"sort"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"

	"rudmar/core/pack"
)

// Inside is the content of one function's archive.
type Inside struct {
	Function, Runtime string
	Archive           Archive
	Entries           []pack.Entry // the files that name libraries
	Listing           pack.Listing
}

// Contents returns the CycloneDX list (1.6, JSON) of a version: each function,
// its files, and the libraries that lock files in its archive name.
func Contents(service string, version int, functions []Inside) ([]byte, error) {
	bom := cdx.NewBOM()
	bom.Metadata = &cdx.Metadata{Component: &cdx.Component{BOMRef: service, Type: cdx.ComponentTypeApplication,
		Name: service, Version: itoa(version)}}
	var components []cdx.Component
	for _, f := range functions {
		own := []cdx.Component{}
		for _, l := range f.Listing {
			own = append(own, cdx.Component{BOMRef: f.Function + ":" + l.Path, Type: cdx.ComponentTypeFile, Name: l.Path,
				Hashes: &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: l.SHA256}}})
		}
		for _, l := range libraries(f.Entries) {
			own = append(own, cdx.Component{BOMRef: f.Function + ":" + l.url, Type: cdx.ComponentTypeLibrary, Name: l.name,
				Version: l.version, PackageURL: l.url})
		}
		components = append(components,
			cdx.Component{BOMRef: f.Function, Type: cdx.ComponentTypeApplication, Name: f.Function, Description: f.Runtime,
				Hashes: &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: f.Archive.FileSHA256}}, Components: &own})
	}
	bom.Components = &components
	var out bytes.Buffer
	err := cdx.NewBOMEncoder(&out, cdx.BOMFileFormatJSON).Encode(bom)
	return out.Bytes(), err
}

func itoa(n int) string {
	text, _ := json.Marshal(n) // an integer always has a form in JSON
	return string(text)
}

type library struct{ name, version, url string }

// libraries reads the installed libraries from lock files: package-lock.json, requirements.txt and go.sum.
func libraries(entries []pack.Entry) []library {
	found := map[string]library{}
	add := func(kind, name, version string) {
		url := "pkg:" + kind + "/" + name + "@" + version
		found[url] = library{name, version, url}
	}
	pinned := regexp.MustCompile(`^([A-Za-z0-9._-]+)==([^\s;#]+)`)
	for _, e := range entries {
		switch {
		case strings.Contains(e.Path, "node_modules/") && path.Base(e.Path) != "package-lock.json":
		case path.Base(e.Path) == "package-lock.json":
			var lock struct {
				Packages map[string]struct {
					Version string
					Dev     bool
				}
			}
			if json.Unmarshal(e.Content, &lock) != nil {
				continue
			}
			for at, p := range lock.Packages {
				if _, name, ok := strings.Cut(at, "node_modules/"); ok && !p.Dev {
					if i := strings.LastIndex(name, "node_modules/"); i >= 0 {
						name = name[i+len("node_modules/"):]
					}
					add("npm", strings.Replace(name, "@", "%40", 1), p.Version)
				}
			}
		case path.Base(e.Path) == "requirements.txt":
			for line := range strings.Lines(string(e.Content)) {
				if m := pinned.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
					add("pypi", strings.ToLower(m[1]), m[2])
				}
			}
		case path.Base(e.Path) == "go.sum":
			for line := range strings.Lines(string(e.Content)) {
				if f := strings.Fields(line); len(f) == 3 && !strings.HasSuffix(f[1], "/go.mod") {
					add("golang", f[0], f[1])
				}
			}
		}
	}
	out := make([]library, 0, len(found))
	for _, l := range found {
		out = append(out, l)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].url < out[j].url })
	return out
}
