package expand

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"rudmar/core/manifest"
)

// Cache stores the resources of functions, so a service with few changes is expanded fast. Concurrent
// expansions can share it; its resources must not be changed.
type Cache struct {
	mu   sync.Mutex
	last map[manifest.Place]*became
}

// became is the expansion of a service in one place.
type became struct {
	stage   *manifest.Stage // the same stage from the same rudmar.yaml
	secrets map[string]string
	address string
	pieces  []piece // sorted by the functions' names
	out     []Resource
}

// of returns a function's resources; i is its position if no function was added or removed.
func (b *became) of(i int, fn *manifest.Function, config *manifest.Config, artifact string) (piece, bool) {
	if b == nil {
		return piece{}, false
	}
	if i >= len(b.pieces) || b.pieces[i].name != fn.Name {
		i, _ = slices.BinarySearchFunc(b.pieces, fn.Name,
			func(p piece, name string) int { return strings.Compare(p.name, name) })
	}
	if i == len(b.pieces) {
		return piece{}, false
	}
	p := b.pieces[i]
	return p, p.config == config && p.name == fn.Name && p.artifact == artifact && !p.elsewhere
}

// again replaces the resources of changed pieces, if no resource was added or removed.
func (b *became) again(pieces []piece, changed []int) ([]Resource, bool) {
	if b == nil || len(pieces) != len(b.pieces) || len(changed) > len(pieces)/4 {
		return nil, false
	}
	for _, i := range changed {
		same := slices.EqualFunc(pieces[i].resources, b.pieces[i].resources,
			func(now, then Resource) bool { return now.Address == then.Address })
		if !same {
			return nil, false
		}
	}
	out := slices.Clone(b.out)
	for _, i := range changed {
		for _, r := range pieces[i].resources {
			at, found := slices.BinarySearchFunc(out, r.Address,
				func(r Resource, address string) int { return strings.Compare(r.Address, address) })
			if !found {
				return nil, false
			}
			out[at] = r
		}
	}
	return out, true
}

// piece is the expansion of one function.
type piece struct {
	config    *manifest.Config
	name      string
	artifact  string
	resources []Resource
	problems  []Problem
	// elsewhere means that it also depends on other functions or on the version.
	elsewhere bool
}

// is reports whether two pieces are identical.
func (p *piece) is(other piece) bool {
	return len(p.resources) > 0 && len(other.resources) > 0 && &p.resources[0] == &other.resources[0]
}

func (c *Cache) recall(stage *manifest.Stage, target manifest.Target, in Inputs) *became {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	b := c.last[manifest.Place{Stage: stage.Name, Target: target}]
	if b == nil || b.stage != stage || b.address != in.Address || !maps.Equal(b.secrets, in.Secrets) {
		return nil
	}
	return b
}

func (c *Cache) keep(stage *manifest.Stage, target manifest.Target, in Inputs, pieces []piece, out []Resource) {
	if c == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.last == nil {
		c.last = map[manifest.Place]*became{}
	}
	c.last[manifest.Place{Stage: stage.Name, Target: target}] = &became{stage: stage, secrets: maps.Clone(in.Secrets),
		address: in.Address, pieces: pieces, out: out}
}
