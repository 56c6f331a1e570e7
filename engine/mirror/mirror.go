// Package mirror keeps repositories in sync with repositories on other hosts: at an interval, and
// after a signed push notification.
package mirror

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"rudmar/engine/notice"
	"rudmar/engine/rest"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/outside"
)

// Limits of following.
const (
	fetchFor  = 2 * time.Minute
	lookEvery = 10 * time.Second
	Least     = time.Minute // between two fetches
	Most      = 24 * time.Hour
	longest   = 30 * time.Minute // maximum pause after failures
)

// Errors of mirrors.
var (
	ErrMirror = errors.New("this repository cannot be mirrored")
	// ErrOwner reports that the person who set up a mirror is no longer there.
	ErrOwner        = errors.New("the account")
	ErrNotification = errors.New("the push notification is not signed with this mirror's key")
)

// Sealer encrypts and opens credentials and keys.
type Sealer interface {
	Seal(text, about string) []byte
	Unseal(sealed []byte, about string) (string, error)
}

// Config has the dependencies of a follower.
type Config struct {
	Store      *store.Store
	Sealer     Sealer
	Repository func(name string) source.Repository
	// Checks returns the checks of a push to a repository.
	Checks func(ctx context.Context, repository string) source.Hook
	// Pushed processes moved branches, as after a push.
	Pushed func(ctx context.Context, repository, person string) error
	Inside bool // addresses of this machine and of private networks are allowed
	Log    *slog.Logger
}

// Follower follows. Its methods can be called concurrently.
type Follower struct {
	Config
	wake chan struct{}

	mu    sync.Mutex
	told  map[string]bool // a push notification arrived, or somebody requested a fetch
	rests *rest.Rests[string]
}

// New creates a follower.
func New(c Config) *Follower {
	return &Follower{Config: c, wake: make(chan struct{}, 1), told: map[string]bool{}, rests: rest.New[string](longest)}
}

// Settings are the settings of a mirror.
type Settings struct {
	Repository, URL, User, Password string
	Every                           time.Duration
	Folders                         []string // in which it can change files; all if empty
}

// Set makes a repository a mirror, and returns the signing key of push notifications, which is shown only once.
// The error wraps ErrMirror.
func (f *Follower) Set(ctx context.Context, w Settings, person string) (key string, err error) {
	if w.Every == 0 {
		w.Every = 5 * time.Minute
	}
	u, err := url.Parse(w.URL)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "":
		return "", fmt.Errorf("%w: %q is not an https:// or http:// address", ErrMirror, w.URL)
	case u.User != nil:
		return "", fmt.Errorf("%w: the address contains a username or password; pass them separately", ErrMirror)
	case w.Password != "" && u.Scheme == "http" && !f.Inside:
		return "", fmt.Errorf("%w: the password would be sent unencrypted; use an https:// address", ErrMirror)
	case w.Every < Least || w.Every > Most:
		return "", fmt.Errorf("%w: the interval must be between one minute and one day, not %s", ErrMirror, w.Every)
	case slices.ContainsFunc(w.Folders, func(dir string) bool { return !fs.ValidPath(dir) || strings.ContainsAny(dir, "\r\n") }):
		return "", fmt.Errorf("%w: %q are not folders of the repository, such as frostline", ErrMirror, w.Folders)
	case strings.ContainsAny(w.URL+w.User+w.Password, "\r\n\x00"):
		return "", fmt.Errorf("%w: it contains a line break", ErrMirror)
	}
	if len(w.Folders) == 0 {
		w.Folders = []string{"."}
	}
	key = rand.Text()
	return key, f.Store.PutMirror(ctx, store.Mirror{Repository: w.Repository, URL: w.URL, User: w.User,
		Sealed: f.Sealer.Seal(w.Password, "mirror/"+w.Repository), Key: f.Sealer.Seal(key, "mirror key/"+w.Repository),
		Every: w.Every.Truncate(time.Second), Person: person, Folders: w.Folders})
}

// Now fetches a mirror at once, regardless of its last fetch.
func (f *Follower) Now(repository string) {
	f.mu.Lock()
	f.told[repository] = true
	f.rests.Ended(repository, nil)
	f.mu.Unlock()
	f.nudge()
}

// nudge wakes Run.
func (f *Follower) nudge() {
	select {
	case f.wake <- struct{}{}:
	default: // a fetch is pending already
	}
}

// WebhookReceived processes a push notification: its signature is "sha256=" and the HMAC-SHA256 of its body, in
// hex. Its content is ignored: it only triggers a fetch. ErrNotification for an invalid signature, and for an
// unknown mirror.
func (f *Follower) WebhookReceived(ctx context.Context, repository, signature string, body []byte) error {
	m, err := f.Store.Mirror(ctx, repository)
	if errors.Is(err, store.ErrNotFound) {
		return ErrNotification
	}
	if err != nil {
		return err
	}
	key, err := f.Sealer.Unseal(m.Key, "mirror key/"+repository)
	if err != nil {
		return err
	}
	if !hmac.Equal([]byte(notice.Sign(key, body)), []byte(signature)) {
		return ErrNotification
	}
	f.Now(repository)
	return nil
}

// Run fetches mirrors until the context ends.
func (f *Follower) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var running sync.WaitGroup
	defer running.Wait()
	busy := map[string]bool{}
	for {
		// Requests are taken first: a fetch that starts after them serves them.
		f.mu.Lock()
		asked := f.told
		f.told = map[string]bool{}
		f.mu.Unlock()
		list, err := f.Store.Mirrors(ctx)
		if err != nil {
			f.mu.Lock()
			maps.Copy(f.told, asked)
			f.mu.Unlock()
			if ctx.Err() == nil {
				f.Log.Error("fetching mirrors", "error", err)
			}
		}
		for _, m := range list {
			f.mu.Lock()
			due := (asked[m.Repository] || !f.Store.Now().Before(m.Tried.Add(m.Every))) && !f.rests.Resting(m.Repository) &&
				!busy[m.Repository]
			switch {
			case due:
				busy[m.Repository] = true
			case asked[m.Repository]: // deferred
				f.told[m.Repository] = true
			}
			f.mu.Unlock()
			if !due {
				continue
			}
			running.Go(func() { // an unresponsive remote does not delay others
				err := f.follow(ctx, m)
				f.mu.Lock()
				delete(busy, m.Repository)
				f.rests.Ended(m.Repository, err)
				f.mu.Unlock()
				f.nudge() // another push notification may have arrived
				if err != nil && ctx.Err() == nil {
					f.Log.Warn("fetching a mirror", "repository", m.Repository, "error", err)
				}
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-f.wake:
		}
	}
}

// follow fetches once and accepts what is allowed, each branch on its own; it records the result.
func (f *Follower) follow(ctx context.Context, m store.Mirror) error {
	fetching, cancel := context.WithTimeout(ctx, fetchFor)
	defer cancel()
	err := f.bring(fetching, m)
	if ctx.Err() != nil {
		return nil // it continues at the next start
	}
	problem := ""
	if err != nil {
		problem = err.Error()
	}
	return errors.Join(err, f.Store.RecordFetch(ctx, m.Repository, problem))
}

func (f *Follower) bring(ctx context.Context, m store.Mirror) error {
	if p, err := f.Store.Person(ctx, m.Person); errors.Is(err, store.ErrNotFound) || err == nil && p.Closed {
		return fmt.Errorf("%w of %s, who set it up, is closed; an administrator must take it over", ErrOwner, m.Person)
	} else if err != nil {
		return err
	}
	account := store.MirrorAccount(m.Repository)
	e, err := f.resolve(ctx, m)
	if err != nil {
		return err
	}
	repo := f.Repository(m.Repository)
	heads, err := repo.FetchFrom(ctx, e)
	if err != nil {
		return err
	}
	hook := f.Checks(ctx, m.Repository)
	hook.Writes = &source.Writes{Folders: m.Folders, Everything: slices.Contains(m.Folders, ".")}
	if !hook.Writes.Everything {
		services, err := f.Store.ServicesOf(ctx, m.Repository)
		if err != nil {
			return err
		}
		hook.Writes.Known = map[string]string{}
		for _, s := range services {
			hook.Writes.Known[s.Name] = s.Dir
		}
	}
	var errs error
	for branch, hash := range heads {
		if err := hook.Accept(ctx, repo, branch, hash, account); err != nil {
			errs = errors.Join(errs, err)
		}
	}
	return errors.Join(errs, f.Pushed(ctx, m.Repository, account))
}

// resolve resolves the address of the remote: outside this machine and private networks, unless those are
// allowed.
func (f *Follower) resolve(ctx context.Context, m store.Mirror) (source.MirrorOf, error) {
	e := source.MirrorOf{URL: m.URL, User: m.User}
	u, err := url.Parse(m.URL)
	if err != nil {
		return e, fmt.Errorf("%w: %w", ErrMirror, err)
	}
	e.Host, e.Port = u.Hostname(), map[string]int{"http": 80, "https": 443}[u.Scheme]
	if u.Port() != "" {
		if e.Port, err = strconv.Atoi(u.Port()); err != nil {
			return e, fmt.Errorf("%w: %w", ErrMirror, err)
		}
	}
	addresses := []netip.Addr{}
	if ip, err := netip.ParseAddr(e.Host); err == nil {
		addresses = append(addresses, ip)
	} else if addresses, err = net.DefaultResolver.LookupNetIP(ctx, "ip", e.Host); err != nil {
		return e, fmt.Errorf("looking up %s: %w", e.Host, err)
	}
	for _, ip := range addresses {
		if err := outside.Check(ip); err != nil && !f.Inside {
			return e, err
		}
		e.At = ip.Unmap()
	}
	if !e.At.IsValid() {
		return e, fmt.Errorf("%w: %s has no address", ErrMirror, e.Host)
	}
	e.Password, err = f.Sealer.Unseal(m.Sealed, "mirror/"+m.Repository)
	return e, err
}
