package deliver

import (
	"context"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/store"
)

// idleFor is how long a stage is left alone in which nothing can change but by an
// event. It is looked at again then all the same: what a gate counts may change
// without one, such as who belongs to a group.
const idleFor = 15 * time.Second

// idleStage is how long a stage is left alone, unless something happens in its service
// after the event that was heard last when it was looked at.
type idleStage struct {
	until time.Time
	heard int64
}

// listen takes in what has happened since it listened last.
func (l *StageLine) listen(ctx context.Context) error {
	if l.heard == 0 {
		newest, err := l.store.NewestEvent(ctx)
		l.mu.Lock()
		defer l.mu.Unlock()
		l.heard = max(newest, 1)
		return err
	}
	for {
		list, err := l.store.EventsAfter(ctx, l.heard, 500)
		if err != nil || len(list) == 0 {
			return err
		}
		l.mu.Lock()
		for _, e := range list {
			l.heard = e.ID
			switch e.Topic {
			case store.TopicDelivery, store.TopicDeployment, store.TopicSecret, store.TopicObservation:
				l.changed[e.Service] = e.ID
			}
		}
		l.mu.Unlock()
	}
}

// isIdle reports whether a stage is to be left alone now.
func (l *StageLine) isIdle(at stageOf) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	c, ok := l.idle[at]
	return ok && l.store.Now().Before(c.until) && l.changed[at.service] <= c.heard
}

// needsPolling reports whether a gate that does not hold may come to hold, or another one cease to, by what is
// reported by no event: time, calls, and what a plan rests on.
func needsPolling(gates []delivery.Gate) bool {
	for _, g := range gates {
		if g.Until > 0 {
			return true
		}
		switch g.Kind {
		case delivery.SoakGate, delivery.WindowGate, delivery.RuleGate:
			if !g.Passed() {
				return true
			}
		}
	}
	return false
}
