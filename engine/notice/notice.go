// Package notice sends notifications: CloudEvents over HTTP, signed, and email. It retries failed
// attempts.
package notice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"rudmar/core/delivery"
	"rudmar/engine/store"
	"rudmar/outside"
)

// SignatureHeader carries "sha256=" and the HMAC-SHA256 of the body, in hex, by the
// hook's own key.
const SignatureHeader = "Rudmar-Signature"

// Limits of sending.
const (
	sendFor   = 10 * time.Second // one attempt
	firstWait = 10 * time.Second // before the second attempt
	longWait  = 6 * time.Hour
	giveUp    = 12 // attempts, over about a day
	lookEvery = 5 * time.Second
	keptBytes = 2000 // of the response
)

// ErrNotificationTarget reports that notifications cannot go somewhere.
var ErrNotificationTarget = errors.New("invalid notification target")

// Sealer encrypts and opens the keys of hooks.
type Sealer interface {
	Seal(text, about string) []byte
	Unseal(sealed []byte, about string) (string, error)
}

// Sender sends notifications. Its methods can be called concurrently.
type Sender struct {
	store  *store.Store
	sealer Sealer
	log    *slog.Logger
	client *http.Client
	inside bool
	mail   Mail
	busy   sync.Map // ids of targets that are being sent to
}

// Config has the dependencies of a sender.
type Config struct {
	Store  *store.Store
	Sealer Sealer
	Log    *slog.Logger
	// Inside allows addresses of this machine and of private networks.
	Inside bool
	Mail   Mail
}

// New creates a sender.
func New(c Config) *Sender {
	s := &Sender{store: c.Store, sealer: c.Sealer, log: c.Log, inside: c.Inside, mail: c.Mail}
	s.client = outside.Client(c.Inside, sendFor)
	return s
}

// NewTarget is a new notification target.
type NewTarget struct {
	Name, URL, Service, Stage string
	Kinds                     []string
}

var nameForm = regexp.MustCompile(`^[\pL\pN][\pL\pN ._-]{0,59}$`)

// Kinds lists the kinds that there are.
func Kinds() []string {
	out := []string{store.NoticeVersion, store.NoticeBuildFailed, store.NoticeDrift, store.NoticeDriftOver,
		store.NoticeBranch}
	for _, s := range []delivery.State{delivery.Planning, delivery.Deploying, delivery.Shifting, delivery.Testing,
		delivery.Settled, delivery.Failed, delivery.Rejected, delivery.RolledBack, delivery.Superseded} {
		out = append(out, "delivery."+string(s))
	}
	return out
}

// Add stores a notification target, and returns its signing key, which is shown only once. The error wraps
// ErrNotificationTarget or store.ErrHookNamed.
func (s *Sender) Add(ctx context.Context, w NewTarget, key, person string) (store.NotificationTarget, error) {
	h := store.NotificationTarget{Name: w.Name, URL: w.URL, Kinds: w.Kinds, Service: w.Service,
		Stage: w.Stage, Person: person,
		Made: s.store.Now()}
	if !nameForm.MatchString(w.Name) {
		return h, fmt.Errorf("%w: a name has 1 to 60 letters, digits, spaces and . _ -", ErrNotificationTarget)
	}
	if err := s.address(w.URL); err != nil {
		return h, err
	}
	if w.Stage != "" && w.Service == "" {
		return h, fmt.Errorf("%w: a stage requires its service", ErrNotificationTarget)
	}
	for _, k := range w.Kinds {
		if !slices.ContainsFunc(Kinds(), func(kind string) bool {
			return kind == k || strings.HasSuffix(k, ".") && strings.HasPrefix(kind, k)
		}) {
			return h, fmt.Errorf("%w: unknown type %q (expected %s)", ErrNotificationTarget, k, strings.Join(Kinds(), ", "))
		}
	}
	h.Sealed = s.sealer.Seal(key, about(w.Name))
	var err error
	h.ID, err = s.store.CreateNotificationTarget(ctx, h)
	return h, err
}

// address checks that notifications can go to an address, of e-mail or of HTTP.
func (s *Sender) address(text string) error {
	if strings.HasPrefix(text, mailTo) {
		return s.mailAddress(text)
	}
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "":
		return fmt.Errorf("%w: %q is not an http://, https:// or mailto: address", ErrNotificationTarget, text)
	case u.User != nil:
		return fmt.Errorf("%w: the address contains a username or password; receivers verify the signature instead",
			ErrNotificationTarget)
	}
	ip, err := netip.ParseAddr(u.Hostname())
	if err != nil || s.inside {
		return nil // a name is resolved, and checked, for each attempt
	}
	if err := outside.Check(ip); err != nil {
		return fmt.Errorf("%w: %w", ErrNotificationTarget, err)
	}
	return nil
}

// about binds a encrypted key to its hook.
func about(name string) string { return "hook/" + name }

// Run sends due notifications until the context ends: to each target on its own and in order, so one that does not
// respond delays no other.
func (s *Sender) Run(ctx context.Context) {
	wake, stop := s.store.Listen(store.TopicNotice)
	defer stop()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var group sync.WaitGroup
	defer group.Wait()
	for {
		due, err := s.store.DueNotifications(ctx)
		if err != nil && ctx.Err() == nil {
			s.log.Error("reading due notifications", "error", err)
		}
		for _, n := range due {
			if _, busy := s.busy.LoadOrStore(n.NotificationTarget, true); !busy {
				group.Go(func() {
					defer s.busy.Delete(n.NotificationTarget)
					if err := s.drain(ctx, n); err != nil && ctx.Err() == nil {
						s.log.Error("sending notifications", "target", n.NotificationTarget, "error", err)
					}
				})
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-wake:
		}
	}
}

// drain sends the due notifications of a target, one after another, from n on. It returns when one fails, or none is
// due.
func (s *Sender) drain(ctx context.Context, n store.Notification) error {
	for {
		if err := s.try(ctx, n); err != nil || ctx.Err() != nil {
			return err
		}
		next, err := s.store.NextNotification(ctx, n.NotificationTarget)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		n = next
	}
}

// try sends a notification once, and writes down the outcome of it.
func (s *Sender) try(ctx context.Context, n store.Notification) error {
	answer, err := s.send(ctx, n)
	if ctx.Err() != nil {
		return nil // it is sent again at the next start: receivers recognize a duplicate by its ID
	}
	n.Attempts++
	n.Response, n.State = answer, store.NotificationSent
	if err != nil {
		n.Response, n.State, n.Due = err.Error(), store.NotificationQueued, s.store.Now().Add(pause(n.Attempts))
		if n.Attempts >= giveUp {
			n.State = store.NotificationFailed
		}
	}
	return s.store.RecordAttempt(ctx, n)
}

// pause returns the wait after a number of attempts.
func pause(tries int) time.Duration {
	pace := backoff.NewExponentialBackOff()
	pace.InitialInterval, pace.MaxInterval, pace.Multiplier = firstWait, longWait, 2.5
	wait := pace.NextBackOff()
	for range tries - 1 {
		wait = pace.NextBackOff()
	}
	return wait
}

// send sends a notification, and returns the response.
func (s *Sender) send(ctx context.Context, n store.Notification) (string, error) {
	h, err := s.store.NotificationTarget(ctx, n.NotificationTarget)
	if err != nil {
		return "", err
	}
	key, err := s.sealer.Unseal(h.Sealed, about(h.Name))
	if err != nil {
		return "", fmt.Errorf("its key cannot be decrypted: %w", err)
	}
	if strings.HasPrefix(h.URL, mailTo) {
		return s.post(ctx, h, n, Sign(key, []byte(n.Body)))
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, h.URL, strings.NewReader(n.Body))
	if err != nil {
		return "", err
	}
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	r.Header.Set("User-Agent", "Rudmar")
	r.Header.Set(SignatureHeader, Sign(key, []byte(n.Body)))
	response, err := s.client.Do(r)
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(response.Body, keptBytes)) // the part that was read is enough
	said := strings.TrimSpace(response.Status + " " + string(bytes.ToValidUTF8(text, nil)))
	if response.StatusCode < 200 || response.StatusCode > 299 {
		return said, fmt.Errorf("the server responded %s", said)
	}
	return said, nil
}

// Sign returns the signature of a body by a key.
func Sign(key string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}
