package manifest

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"

	"rudmar/core/language"
)

// Folder is a service's folder: in a commit, on a disk, in an editor. Names are slash-separated and relative to
// it.
type Folder interface {
	// Files lists all regular files, sorted.
	Files() []string
	// Read gives the content of one.
	Read(name string) ([]byte, error)
}

// Files is a Folder in memory.
type Files map[string][]byte

// FilesOf returns a folder of texts, by name.
func FilesOf(texts map[string]string) Files {
	out := make(Files, len(texts))
	for name, text := range texts {
		out[name] = []byte(text)
	}
	return out
}

// Files lists the names, sorted.
func (f Files) Files() []string {
	out := make([]string, 0, len(f))
	for name := range f {
		out = append(out, name)
	}
	sort.Strings(out)
	return out
}

// Read returns the content of a file.
func (f Files) Read(name string) ([]byte, error) {
	text, ok := f[name]
	if !ok {
		return nil, &fs.PathError{Op: "read", Path: name, Err: fs.ErrNotExist}
	}
	return text, nil
}

// Overlay is a Folder with some files changed; nil content deletes a file.
type Overlay struct {
	Under   Folder
	Changed map[string][]byte
}

// Files lists the names of both, sorted.
func (o Overlay) Files() []string {
	var out []string
	for _, name := range o.Under.Files() {
		if _, changed := o.Changed[name]; !changed {
			out = append(out, name)
		}
	}
	for name, text := range o.Changed {
		if text != nil {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

// Read returns the changed content, or that of the base.
func (o Overlay) Read(name string) ([]byte, error) {
	switch text, changed := o.Changed[name]; {
	case changed && text == nil:
		return nil, &fs.PathError{Op: "read", Path: name, Err: fs.ErrNotExist}
	case changed:
		return text, nil
	}
	return o.Under.Read(name)
}

// Stamp returns the base's stamp of an unchanged file, if it has one; "" for a changed one.
func (o Overlay) Stamp(name string) string {
	if f, ok := o.Under.(Stamped); ok {
		if _, changed := o.Changed[name]; !changed {
			return f.Stamp(name)
		}
	}
	return ""
}

// Load reads unchanged files in one request, if the base can.
func (o Overlay) Load(names []string) error {
	f, ok := o.Under.(Batched)
	if !ok {
		return nil
	}
	return f.Load(slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		_, changed := o.Changed[name]
		return changed
	}))
}

// FSFolder is a Folder over a file system, such as a folder on a disk. Hidden
// folders, node_modules and symbolic links are left out.
type FSFolder struct {
	files []string
	fsys  fs.FS
}

// FromFS lists the files of a file system.
func FromFS(fsys fs.FS) (*FSFolder, error) {
	t := &FSFolder{fsys: fsys}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && name != "." && (strings.HasPrefix(d.Name(), ".") || d.Name() == "node_modules"):
			return fs.SkipDir
		case d.Type().IsRegular():
			t.files = append(t.files, name)
		}
		return nil
	})
	sort.Strings(t.files)
	return t, err
}

// Files lists the names.
func (t *FSFolder) Files() []string { return t.files }

// Read returns the content of a file, up to slightly more than the limit of a manifest.
func (t *FSFolder) Read(name string) ([]byte, error) {
	info, err := fs.Stat(t.fsys, name)
	if err != nil {
		return nil, err
	}
	if info.Size() > 64<<20 {
		return nil, &fs.PathError{Op: "read", Path: name, Err: errors.New("the file is larger than 64 MiB")}
	}
	return fs.ReadFile(t.fsys, name)
}

// Services returns the folders in a list of files that contain a rudmar.yaml.
func Services(files []string) []string {
	var out []string
	for _, name := range files {
		if path.Base(name) == language.ServiceFile {
			out = append(out, path.Dir(name))
		}
	}
	return out
}

// IsManifest reports whether a check reads a file of a service's folder.
func IsManifest(name string) bool {
	return name == language.ServiceFile || path.Base(name) == language.FunctionFile || IsCase(name)
}

// IsCalendar reports whether a file of a service's folder can be a calendar of freezes.
func IsCalendar(name string) bool { return path.Dir(name) == "." && path.Ext(name) == ".ics" }

// IsCase reports whether a file is a saved case.
func IsCase(name string) bool {
	return path.Base(path.Dir(name)) == language.CasesFolder && strings.HasSuffix(name, ".yaml")
}

// Manifests selects the manifests of a service from its files, without those of a nested service.
func Manifests(all []string) []string {
	var inner []string
	for _, dir := range Services(all) {
		if dir != "." {
			inner = append(inner, dir+"/")
		}
	}
	var out []string
next:
	for _, name := range all {
		if !IsManifest(name) {
			continue
		}
		for _, dir := range inner {
			if strings.HasPrefix(name, dir) {
				continue next
			}
		}
		out = append(out, name)
	}
	return out
}

// Stamped is a Folder that identifies the content of a file without reading it, as git does by its blobs. Equal
// stamps mean equal content; "" means that the file must be read.
type Stamped interface {
	Stamp(name string) string
}

// Batched is a Folder that reads many files faster in one request. After Load, Read of these names is fast.
type Batched interface {
	Load(names []string) error
}
