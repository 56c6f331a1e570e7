package check

import (
	"bytes"
	"slices"
	"sync"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// Cache keeps what a check found out about each file, so the next check of much the same folder is quick.
// Nothing in it is changed once it is kept; checks that run concurrently may share it.
type Cache struct {
	mu   sync.Mutex
	last *recalled
}

// recalled is what one check found out.
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

// stamp is what a file held.
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

// known is what a check found out about one file: what the file says for
// itself, and what follows from it in its service.
type known struct {
	name        string
	held        stamp
	node        *tree.Node
	diagnostics []diagnostic.Diagnostic

	function *manifest.Function // without its cases
	declared []diagnostic.Diagnostic
	followed bool // whether later parts were checked
	alone    []diagnostic.Diagnostic
	code     string // the handler's file that was searched; "" for none
	codeHeld stamp

	saved   *manifest.Case
	of      *manifest.Config // what the case was checked against
	ofSaved []diagnostic.Diagnostic
}

// fresh is what a file says for itself, to be followed up again.
func (k *known) fresh() *known {
	return &known{name: k.name, held: k.held, node: k.node, diagnostics: k.diagnostics}
}

// unfollowed is a function's file whose function is not one of the service.
func (k *known) unfollowed() *known {
	if !k.followed {
		return k
	}
	again := *k
	again.followed, again.alone = false, nil
	return &again
}

// load reads files in one go where the folder can.
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
