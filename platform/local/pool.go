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
)

// runtimeFiles are the workers, and what functions may import.
//
//go:embed python node
var runtimeFiles embed.FS

// runPrefix begins the name of the folder in which code is unpacked.
const runPrefix = "rudmar-run-"

// instance is a process that runs one revision of one function.
type instance struct {
	*process
	id       string
	member   member
	revision string
	usedAt   time.Time
	token    string
	work     string
}

// member is a function of a scope.
type member struct {
	scope
	function string
}

// pool keeps instances warm, and counts those at work.
type pool struct {
	platform *Platform
	root     string // where code is unpacked: readable for functions, unlike the platform's own folder

	mu       sync.Mutex
	idle     map[member][]*instance
	atWork   map[member]int
	tokens   map[string]member // of live instances
	closed   bool
	users    map[int]bool // of live instances
	nextUser int
	unpack   sync.Mutex
}

func newPool(p *Platform) *pool {
	return &pool{platform: p, idle: map[member][]*instance{}, atWork: map[member]int{}, tokens: map[string]member{}, users: map[int]bool{}}
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

// warm takes an idle instance of a revision, or gives nil.
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
		case <-in.done: // it ended while nobody looked
			p.forget(in)
			list = p.idle[at]
			continue
		default:
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
	o := processOptions{keepsGarbage: runtime == "node", apart: p.platform.isolation, network: network,
		startFrame: startFrame{Code: code, Handler: handler, Function: at.function, Version: r.version, Stage: at.stage, Memory: int64(memory)}}
	if o.interpreter, o.beyond, err = p.interpreter(runtime, o.Memory); err != nil {
		return nil, err
	}
	if runtime == "go" {
		if o.Cache, err = p.compiled(code); err != nil {
			return nil, err
		}
	}
	in := &instance{id: "i-" + random(4), member: at, revision: r.id, token: random(24)}
	if in.work, err = os.MkdirTemp(p.root, "work-"); err != nil {
		return nil, fmt.Errorf("making a working folder: %w", err)
	}
	user, release := p.user()
	o.user, o.work, o.env = user, in.work, p.environment(in, r)
	p.mu.Lock()
	p.tokens[in.token] = at
	p.mu.Unlock()
	if err = os.Chown(in.work, user, user); err == nil {
		in.process, err = start(o)
	}
	if err != nil {
		release()
		p.mu.Lock()
		defer p.mu.Unlock()
		p.forget(in)
		return nil, fmt.Errorf("starting a process in its folder: %w", err)
	}
	go func() {
		<-in.done
		release()
	}()
	return in, nil
}

// user gives a user for an instance, which no other has until it is released.
func (p *pool) user() (user int, release func()) {
	if !p.platform.isolation.users {
		return p.platform.isolation.user(0), func() {}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for range users {
		p.nextUser++
		user = p.platform.isolation.user(p.nextUser)
		if !p.users[user] {
			break
		}
	}
	p.users[user] = true
	return user, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.users, user)
	}
}

func (p *pool) environment(in *instance, r revision) []string {
	env := []string{
		"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8", "HOME=" + in.work, "TMPDIR=" + in.work,
		"PYTHONDONTWRITEBYTECODE=1",
		"RUDMAR_DATA=http://platform/data",
		"RUDMAR_SOCKET=" + filepath.Join(p.root, socketName),
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

// give puts an instance back, to be used again.
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
}

// drop ends an instance for good.
func (p *pool) drop(in *instance) {
	p.mu.Lock()
	p.forget(in)
	p.mu.Unlock()
	in.end()
}

// forget takes away what belongs to an instance. The lock is held.
func (p *pool) forget(in *instance) {
	delete(p.tokens, in.token)
	go os.RemoveAll(in.work)
}

// retire ends idle instances of revisions that get no calls any more.
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

// run takes away instances that nobody called for a while.
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
	}
	if p.root != "" {
		os.RemoveAll(p.root)
	}
}

// holder tells which function a token belongs to.
func (p *pool) holder(token string) (member, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	at, ok := p.tokens[token]
	return at, ok
}

func random(bytes int) string {
	b := make([]byte, bytes)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system gives no randomness: nothing can go on
	}
	return hex.EncodeToString(b)
}

// hashed is how tokens are kept.
func hashed(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}
