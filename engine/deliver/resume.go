package deliver

import (
	"context"
	"errors"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/store"
	"rudmar/platform"
)

// errPlan reports that a plan has problems that stop it.
var errPlan = errors.New("the plan cannot be run")

// errUnreachable reports that a deployment failed because its platform did not respond.
var errUnreachable = errors.New("the platform did not respond")

// unreachable is an errUnreachable with the text of another error.
type unreachable struct{ error }

func (u unreachable) Is(target error) bool { return target == errUnreachable }

// Pauses between checks of what a failed delivery needs: doubled after each failure.
const (
	firstLook   = 2 * time.Second
	longestLook = time.Minute
)

// blockedOn returns what a failed delivery needs to continue automatically.
func (l *StageLine) blockedOn(ctx context.Context, d store.Delivery, err error) string {
	switch {
	case errors.Is(err, errPlan):
		return store.BlockedByPlan
	case platform.Transient(err), errors.Is(err, errUnreachable):
		return store.MissesPlatform
	}
	if _, err := l.stampOf(ctx, d.Service, d.Stage, d.Version); platform.Transient(err) {
		return store.MissesPlatform
	}
	return ""
}

// wait is until when a stopped delivery is left alone.
type wait struct {
	until time.Time
	long  time.Duration
}

// retry continues a failed delivery if what it needs is available, or if somebody has deployed its version
// since. It is the newest of its stage that came as far.
func (l *StageLine) retry(ctx context.Context, d store.Delivery) error {
	by, err := l.deployedSince(ctx, d)
	if err != nil {
		return err
	}
	if by != nil {
		return l.apply(ctx, d, delivery.Retry, by.Person, "")
	}
	if d.Missing == "" {
		return nil
	}
	key := deliveryOf{d.Service, Key{d.Version, d.Stage}}
	now := l.store.Now()
	l.mu.Lock()
	w, waits := l.waits[key]
	if !waits {
		w = wait{now.Add(firstLook), firstLook}
		l.waits[key] = w
	}
	l.mu.Unlock()
	if now.Before(w.until) {
		return nil
	}
	m, err := l.ImpactOf(ctx, d.Service, d.Stage, d.Version)
	has := err == nil
	for _, p := range m.Plans() {
		has = has && len(p.Blockers) == 0
	}
	l.mu.Lock()
	if has {
		delete(l.waits, key)
	} else {
		w.long = min(2*w.long, longestLook)
		w.until = now.Add(w.long)
		l.waits[key] = w
	}
	l.mu.Unlock()
	if !has {
		return nil
	}
	why := "the platform is reachable again"
	if d.Missing == store.BlockedByPlan {
		why = "the plan's blockers are resolved"
	}
	d.Missing = ""
	return l.apply(ctx, d, delivery.Retry, "", why)
}

// deployedSince returns a successful deployment of a version since its delivery failed, such as one that
// somebody retried; nil for none.
func (l *StageLine) deployedSince(ctx context.Context, d store.Delivery) (*store.Deployment, error) {
	newest, err := l.store.Deployments(ctx, d.Service, d.Stage, 10)
	for _, one := range newest {
		if one.Version == d.Version && one.State == store.Succeeded && one.EndedAt.After(d.Since) {
			return &one, err
		}
	}
	return nil, err
}

// Changed records that something changed that deliveries of a service may wait for, such as a secret; they are
// inspected now.
func (l *StageLine) Changed(service string) {
	l.mu.Lock()
	for key := range l.waits {
		if key.service == service {
			l.waits[key] = wait{long: firstLook}
		}
	}
	for at := range l.idle {
		if at.service == service {
			delete(l.idle, at)
		}
	}
	l.mu.Unlock()
	l.AdvanceSoon()
}
