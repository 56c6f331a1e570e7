package check

import (
	"bytes"
	"slices"
	"sync"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// Cache stores the results of a check for each file, so the next check of a similar folder is fast. Stored
// results never change; concurrent checks can share a cache.
type Cache struct {
	mu   sync.Mutex
	last *recalled
}

// recalled is the result of one check.
type recalled struct {
	offers    *Offers // what it was checked against
	stage     string
	names     []string // of the folder's files
	files     map[string]*known
	service   *manifest.Service // without its functions
	root      *known
	ofRoot    []diagnostic.Diagnostic // about rudmar.yaml alone
	functions []string
}

func (c *Cache) recall(o Options) *recalled {
	if c != nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.last != nil && c.last.offers == o.Offers && c.last.stage == o.Stage {
			return c.last
		}
	}
	return &recalled{}
}

func (c *Cache) keep(r *recalled) {
	if c != nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.last = r
	}
}

// stamp identifies the content of a file.
type stamp struct {
	id   string
	text []byte
}

func (s stamp) same(other stamp) bool {
	if s.id != "" || other.id != "" {
		return s.id == other.id
	}
	return s.text != nil && bytes.Equal(s.text, other.text)
}

func stampOf(folder manifest.Folder, name string) (stamp, error) {
	if f, ok := folder.(manifest.Stamped); ok {
		if id := f.Stamp(name); id != "" {
			return stamp{id: id}, nil
		}
	}
	text, err := folder.Read(name)
	return stamp{text: text}, err
}

// known is the result for one file: of the file alone, and of the file within its service.
type known struct {
	name        string
	held        stamp
	node        *tree.Node
	diagnostics []diagnostic.Diagnostic

	function *manifest.Function // without its cases
	declared []diagnostic.Diagnostic
	followed bool // whether later parts were checked
	alone    []diagnostic.Diagnostic
	urls     []urlReference
	code     string // the handler's file that was searched; "" for none
	codeHeld stamp

	saved   *manifest.Case
	of      *manifest.Config // what the case was checked against
	ofSaved []diagnostic.Diagnostic
}

// fresh is the result of a file alone, to be checked within its service again.
func (k *known) fresh() *known {
	return &known{name: k.name, held: k.held, node: k.node, diagnostics: k.diagnostics}
}

// unfollowed is the result of a function file whose function is not part of the service.
func (k *known) unfollowed() *known {
	if !k.followed {
		return k
	}
	again := *k
	again.followed, again.alone, again.urls = false, nil, nil
	return &again
}

// load reads files in one request if the folder can.
func load(folder manifest.Folder, names []string) {
	if f, ok := folder.(manifest.Batched); ok && len(names) > 0 {
		_ = f.Load(names) // Read reports, by name, which files cannot be read
	}
}

// unknown lists the files that are not unchanged.
func (r *recalled) unknown(folder manifest.Folder, names []string) []string {
	stamped, ok := folder.(manifest.Stamped)
	if !ok || len(r.files) == 0 {
		return names
	}
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		k, id := r.files[name], stamped.Stamp(name)
		return k != nil && id != "" && k.held.id == id
	})
}
