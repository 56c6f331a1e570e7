package manifest

import (
	"bytes"
	"slices"
	"sync"
)

// Stamped is a Folder that knows which content a file has without reading it,
// as git does by its blobs. Equal stamps mean equal content; "" means that the
// file has to be read.
type Stamped interface {
	Stamp(name string) string
}

// Batched is a Folder that reads many files faster in one go. After Load, Read
// of these names is quick.
type Batched interface {
	Load(names []string) error
}

// Memory keeps what a check found out about each file, so that the next check
// of much the same folder is quick. Nothing in it is changed once it is kept;
// checks that run at the same time may share it.
type Memory struct {
	mu   sync.Mutex
	last *recalled
}

// recalled is what one check found out.
type recalled struct {
	offers    *Offers // what it was held against
	stage     string
	names     []string // of the folder's files
	files     map[string]*known
	service   *Service // without its functions
	root      *known
	ofRoot    []Diagnostic // about rudmar.yaml alone
	functions []string
}

func (m *Memory) recall(l *Language) *recalled {
	if m != nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		if m.last != nil && m.last.offers == l.offers && m.last.stage == l.stage {
			return m.last
		}
	}
	return &recalled{}
}

func (m *Memory) keep(r *recalled) {
	if m != nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.last = r
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

func stampOf(folder Folder, name string) (stamp, error) {
	if f, ok := folder.(Stamped); ok {
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
	node        *Node
	diagnostics []Diagnostic

	function *Function // without its cases
	declared []Diagnostic
	followed bool // whether what follows was looked at
	alone    []Diagnostic
	code     string // the handler's file that was looked into; "" for none
	codeHeld stamp

	saved   *Case
	of      *Config // what the case was checked against
	ofSaved []Diagnostic
}

// fresh is what a file says for itself, to be followed up anew.
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
func load(folder Folder, names []string) {
	if f, ok := folder.(Batched); ok && len(names) > 0 {
		_ = f.Load(names) // Read of each name tells what could not be read
	}
}

// unknown lists the files that are not as they were.
func (r *recalled) unknown(folder Folder, names []string) []string {
	stamped, ok := folder.(Stamped)
	if !ok || len(r.files) == 0 {
		return names
	}
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		k, id := r.files[name], stamped.Stamp(name)
		return k != nil && id != "" && k.held.id == id
	})
}
