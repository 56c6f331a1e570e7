package people

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/engine/store"
)

// Limits of guessing: a number of wrong passwords in a row is checked at once; each further one doubles the
// wait before the next check.
const (
	freeUsername = 5
	freeAddress  = 20
	firstPause   = time.Second
	longestWait  = 15 * time.Minute
	// forgetAfter is how long after the last failure the failures are forgotten.
	forgetAfter = time.Hour
	// mostKept is the maximum number of usernames and addresses in memory.
	mostKept = 10_000
)

// SlowError reports too many wrong passwords, and when the next one is checked. It is the same for existing and
// unknown usernames.
type SlowError struct{ after time.Duration }

func (e *SlowError) Error() string {
	return fmt.Sprintf("too many wrong passwords; try again in %d seconds", e.RetryAfter())
}

// RetryAfter is how long to wait, in whole seconds, as the header of that name
// has it (RFC 9110).
func (e *SlowError) RetryAfter() int { return int(e.after.Seconds()) + 1 }

// guesses counts wrong passwords by key. An attempt is reserved before its password is checked, so attempts at the same
// time count as much as one after the other.
type guesses struct {
	now  func() time.Time
	mu   sync.Mutex
	made map[string]guess
}

type guess struct {
	wrong   int
	pending int       // reserved, not decided yet
	until   time.Time // nothing is checked before
	last    time.Time
}

// limit is a key with its number of free wrong passwords.
type limit struct {
	key  string
	free int
}

// reserve reserves an attempt for all keys, or returns how long somebody must wait.
func (g *guesses) reserve(limits ...limit) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	var longest time.Duration
	for _, l := range limits {
		v := g.made[l.key]
		longest = max(longest, v.until.Sub(now))
		if v.pending > 0 && v.wrong+v.pending > l.free {
			longest = max(longest, firstPause)
		}
	}
	if longest > 0 {
		return longest
	}
	g.forget(now)
	for _, l := range limits {
		v := g.made[l.key]
		v.pending++
		v.last = now
		g.made[l.key] = v
	}
	return 0
}

// forget makes room for further keys.
func (g *guesses) forget(now time.Time) {
	if len(g.made) < mostKept {
		return
	}
	for k, old := range g.made {
		if old.pending == 0 && (now.Sub(old.last) > forgetAfter || now.After(old.until) && len(g.made) >= mostKept) {
			delete(g.made, k)
		}
	}
}

// decide ends reserved attempts: wrong ones count; the first key of a right one is forgotten.
func (g *guesses) decide(wrong, right bool, limits ...limit) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	for i, l := range limits {
		v := g.made[l.key]
		pending := max(0, v.pending-1)
		if right && i == 0 || now.Sub(v.last) > forgetAfter {
			v = guess{}
		}
		v.pending = pending
		if wrong {
			v.wrong++
			v.last = now
			if over := v.wrong - l.free; over > 0 {
				v.until = now.Add(min(longestWait, firstPause<<min(over-1, 20)))
			}
		}
		if v.wrong == 0 && v.pending == 0 {
			delete(g.made, l.key)
			continue
		}
		g.made[l.key] = v
	}
}

// Limits of hashing passwords, which takes a whole core for a while.
const (
	mostHashes  = 2
	mostWaiting = 32
)

// hashing bounds how many passwords are hashed at the same time, and how many wait for that.
type hashing struct {
	slots   chan struct{}
	waiting atomic.Int32
}

func newHashing() *hashing { return &hashing{slots: make(chan struct{}, mostHashes)} }

// do hashes, or returns a *SlowError if too many wait already.
func (h *hashing) do(ctx context.Context, hash func() error) error {
	if h.waiting.Add(1) > mostWaiting {
		h.waiting.Add(-1)
		return &SlowError{firstPause}
	}
	select {
	case <-ctx.Done():
		h.waiting.Add(-1)
		return ctx.Err()
	case h.slots <- struct{}{}:
		h.waiting.Add(-1)
	}
	defer func() { <-h.slots }()
	return hash()
}

// Addresses returns the remote address of a request.
type Addresses func(r *http.Request) string

// AddressesBehind returns the addresses of callers behind trusted proxies, whose X-Forwarded-For header is read from
// the right up to the first address that is none of theirs. Without proxies the header counts for nothing.
func AddressesBehind(proxies []netip.Prefix) Addresses {
	if len(proxies) == 0 {
		return From
	}
	options := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range proxies {
		options = append(options, echo.TrustIPRange(&net.IPNet{IP: p.Masked().Addr().AsSlice(),
			Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}))
	}
	return Addresses(echo.ExtractIPFromXFFHeader(options...))
}

// From returns the remote address of a request.
func From(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// Enter is Check at an address: wrong passwords are throttled by username and by address, and recorded. The
// error is a *SlowError if somebody must wait. A token in place of the password returns its user.
func (d *Directory) Enter(ctx context.Context, username, password, address string) (store.Person, error) {
	if tokenOf(password) {
		p, err := d.ByToken(ctx, password, address)
		if err == nil && p.Username != username {
			err = ErrToken
		}
		return p, err
	}
	if d.knows(ctx, username, password) { // a cached correct password costs nothing
		return d.Check(ctx, username, password)
	}
	limits := []limit{{"username " + username, freeUsername}, {"address " + address, freeAddress}}
	known, err := d.store.SignedInFrom(ctx, username, address)
	if err != nil {
		return store.Person{}, err
	}
	if known { // strangers elsewhere do not lock out somebody who comes from where they have signed in before
		limits[0].key += " from " + address
	}
	if wait := d.guesses.reserve(limits...); wait > 0 {
		return store.Person{}, &SlowError{wait}
	}
	p, err := d.Check(ctx, username, password)
	wrong := errors.Is(err, ErrSignIn)
	d.guesses.decide(wrong, err == nil, limits...)
	if wrong {
		err = errors.Join(err,
			d.store.Note(ctx, store.Entry{What: "sign-in failed", Text: fmt.Sprintf("%s from %s", shown(username), address)}))
	}
	return p, err
}

// shown returns a username as it is written to the journal: an unknown one may be a mistyped password.
func shown(username string) string {
	if !handleForm.MatchString(username) {
		return "an invalid username"
	}
	return username
}
