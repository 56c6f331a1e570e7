package local

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"rudmar/cage"
)

// runtimeFiles are the workers, and the modules that functions can import.
//
//go:embed python node
var runtimeFiles embed.FS

// runPrefix is the name prefix of the folder of unpacked code.
const runPrefix = "rudmar-run-"

// instance is a process that runs one revision of one function.
type instance struct {
	*process
	id       string
	member   member
	revision string
	usedAt   time.Time
	token    string
	paused   bool // paused, because it is idle
}

// pauseAfter is how long an idle instance runs on, so the next invocation finds it awake.
const pauseAfter = 20 * time.Millisecond

// member is a function of a scope.
type member struct {
	scope
	function string
}

// pool keeps instances warm, and counts the running ones.
type pool struct {
	platform *Platform
	root     string // folder of unpacked code

	mu       sync.Mutex
	idle     map[member][]*instance
	atWork   map[member]int
	tokens   map[string]member // number of live instances
	closed   bool
	pausing  bool // pauseIdle is scheduled
	unpack   sync.Mutex
	compiler compiler
}

func newPool(p *Platform) *pool {
	return &pool{platform: p, idle: map[member][]*instance{}, atWork: map[member]int{}, tokens: map[string]member{},
		compiler: compiler{running: map[string]bool{}}}
}

// enter counts a call in, up to the limit of calls at once.
func (p *pool) enter(at member, limit int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.atWork[at] >= limit {
		return false
	}
	p.atWork[at]++
	return true
}

func (p *pool) leave(at member) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.atWork[at]--; p.atWork[at] <= 0 {
		delete(p.atWork, at)
	}
}

// warm returns an idle instance of a revision, or nil.
func (p *pool) warm(at member, revision string) *instance {
	p.mu.Lock()
	defer p.mu.Unlock()
	list := p.idle[at]
	for i := len(list) - 1; i >= 0; i-- {
		in := list[i]
		if in.revision != revision {
			continue
		}
		p.idle[at] = append(list[:i:i], list[i+1:]...)
		select {
		case <-in.done: // it ended without an observer
			p.forget(in)
			list = p.idle[at]
			continue
		default:
			if in.paused {
				in.paused = false
				in.resume()
			}
			return in
		}
	}
	return nil
}

// cold starts an instance. Its first reply is still to be received.
func (p *pool) cold(at member, r revision) (*instance, error) {
	code, err := p.code(r.artifact)
	if err != nil {
		return nil, err
	}
	memory, _ := r.config["memory"].(float64)
	handler, _ := r.config["handler"].(string)
	runtime, _ := r.config["runtime"].(string)
	network, _ := r.config["network"].(bool)
	in := &instance{id: "i-" + random(8), member: at, revision: r.id, token: random(24)}
	o := processOptions{keepsGarbage: runtime == "node",
		startFrame: startFrame{ID: in.id, Handler: handler, Function: at.function, Version: r.version,
			Stage: at.stage, Memory: int64(memory)}}
	view := &view{closed: p.platform.cages.Closed()}
	if o.spec.Command, o.beyond, err = p.interpreter(runtime, o.Memory, view); err != nil {
		return nil, err
	}
	if runtime == "go" {
		cache, err := p.compiled(code)
		if err != nil {
			return nil, err
		}
		o.Cache = view.show(cache, "/rudmar/wasm")
	}
	o.Code = view.show(code, "/fn")
	o.spec.Env = p.environment(in, r, view.show(filepath.Join(p.root, socketName), "/rudmar/"+socketName))
	o.spec.Network, o.spec.Mounts = network, view.mounts
	if list, ok := r.config["network_to"].([]any); ok {
		for _, to := range list {
			o.spec.Destinations = append(o.spec.Destinations, fmt.Sprint(to))
		}
	}
	o.spec.Limits = cage.Limits{Processes: maxProcesses, Scratch: maxPrivate}
	p.mu.Lock()
	p.tokens[in.token] = at
	p.mu.Unlock()
	if in.process, err = start(p.platform.cages, o); err != nil {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.forget(in)
		return nil, err
	}
	return in, nil
}

// Limits of an instance beside its memory: processes and threads, and bytes of
// its private folder.
const (
	maxProcesses = 64
	maxPrivate   = 64 << 20
)

func (p *pool) environment(in *instance, r revision, socket string) []string {
	env := []string{
		"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8", "HOME=" + cage.Scratch, "TMPDIR=" + cage.Scratch,
		"PYTHONDONTWRITEBYTECODE=1",
		"RUDMAR_DATA=http://platform/data",
		"RUDMAR_SOCKET=" + socket,
		"RUDMAR_TOKEN=" + in.token,
		"RUDMAR_REGION=" + in.member.region,
	}
	for name, v := range r.config {
		if key, ok := strings.CutPrefix(name, "env."); ok {
			text, _ := v.(string)
			if secret, ok := r.secrets[name]; ok {
				text = secret
			}
			env = append(env, key+"="+text)
		}
	}
	return env
}

// give returns an instance to the pool.
func (p *pool) give(in *instance) {
	in.usedAt = time.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		p.forget(in)
		go in.kill()
		return
	}
	p.idle[in.member] = append(p.idle[in.member], in)
	if !p.pausing { // one for all: a timer per invocation would wake a processor each time
		p.pausing = true
		time.AfterFunc(pauseAfter, p.pauseIdle)
	}
}

// pauseIdle pauses idle instances, and runs again while there are others.
func (p *pool) pauseIdle() {
	p.mu.Lock()
	defer p.mu.Unlock()
	before, awake := time.Now().Add(-pauseAfter), 0
	for _, list := range p.idle {
		for _, in := range list {
			switch {
			case in.paused:
			case in.usedAt.After(before):
				awake++
			default:
				in.paused = true
				in.pause()
			}
		}
	}
	if p.pausing = awake > 0; p.pausing {
		time.AfterFunc(pauseAfter, p.pauseIdle)
	}
}

// drop ends an instance.
func (p *pool) drop(in *instance) {
	p.mu.Lock()
	p.forget(in)
	p.mu.Unlock()
	in.end()
}

// forget removes an instance's data. The lock is held.
func (p *pool) forget(in *instance) {
	delete(p.tokens, in.token)
}

// retire ends idle instances of revisions without traffic.
func (p *pool) retire(sc scope, function string, attributes map[string]any) {
	shares, _ := attributes["shares"].(map[string]any)
	at := member{sc, function}
	p.mu.Lock()
	defer p.mu.Unlock()
	var kept []*instance
	for _, in := range p.idle[at] {
		if _, ok := shares[in.revision]; ok {
			kept = append(kept, in)
			continue
		}
		p.forget(in)
		go in.end()
	}
	p.idle[at] = kept
}

// run ends instances that are idle for a while.
func (p *pool) run(ctx context.Context) {
	tick := time.NewTicker(min(p.platform.options.Idle/2+time.Millisecond, 10*time.Second))
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			p.sweep(now.Add(-p.platform.options.Idle))
		}
	}
}

func (p *pool) sweep(before time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for at, list := range p.idle {
		var kept []*instance
		for _, in := range list {
			if in.usedAt.After(before) {
				kept = append(kept, in)
				continue
			}
			p.forget(in)
			go in.end()
		}
		if p.idle[at] = kept; len(kept) == 0 {
			delete(p.idle, at)
		}
	}
}

func (p *pool) close() {
	p.mu.Lock()
	p.closed = true
	var all []*instance
	for _, list := range p.idle {
		all = append(all, list...)
	}
	p.idle = map[member][]*instance{}
	p.mu.Unlock()
	for _, in := range all {
		in.kill()
		<-in.done
		in.cage.Release()
	}
	if p.root != "" {
		os.RemoveAll(p.root)
	}
}

// holder reports which function a token belongs to.
func (p *pool) holder(token string) (member, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	at, ok := p.tokens[token]
	return at, ok
}

func random(bytes int) string {
	b := make([]byte, bytes)
	if _, err := rand.Read(b); err != nil {
		panic(err) // without random numbers nothing can continue
	}
	return hex.EncodeToString(b)
}

// hashed returns the stored form of a token.
func hashed(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}
