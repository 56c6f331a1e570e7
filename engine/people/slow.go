package people

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

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

// guesses counts wrong passwords by handle and by address.
type guesses struct {
	now  func() time.Time
	mu   sync.Mutex
	made map[string]guess
}

type guess struct {
	wrong int
	until time.Time // nothing is checked before
	last  time.Time
}

// wait returns how long somebody must wait before a password is checked.
func (g *guesses) wait(keys ...string) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	var longest time.Duration
	for _, key := range keys {
		longest = max(longest, g.made[key].until.Sub(g.now()))
	}
	return longest
}

// wrong counts a wrong password.
func (g *guesses) wrong(key string, free int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	if len(g.made) >= mostKept {
		for k, old := range g.made {
			if now.Sub(old.last) > forgetAfter || now.After(old.until) && len(g.made) >= mostKept {
				delete(g.made, k)
			}
		}
	}
	v := g.made[key]
	if now.Sub(v.last) > forgetAfter {
		v = guess{}
	}
	v.wrong++
	v.last = now
	if over := v.wrong - free; over > 0 {
		v.until = now.Add(min(longestWait, firstPause<<min(over-1, 20)))
	}
	g.made[key] = v
}

// right forgets the wrong passwords of a username.
func (g *guesses) right(key string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.made, key)
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
	byUsername, byAddress := "username "+username, "address "+address
	if d.knows(ctx, username, password) { // a cached correct password costs nothing
		return d.Check(ctx, username, password)
	}
	if wait := d.guesses.wait(byUsername, byAddress); wait > 0 {
		return store.Person{}, &SlowError{wait}
	}
	p, err := d.Check(ctx, username, password)
	switch {
	case err == nil:
		d.guesses.right(byUsername)
	case errors.Is(err, ErrSignIn):
		d.guesses.wrong(byUsername, freeUsername)
		d.guesses.wrong(byAddress, freeAddress)
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
