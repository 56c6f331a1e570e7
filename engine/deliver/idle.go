package deliver

import (
	"context"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/store"
)

// idleFor is the interval of inspections of a stage in which only an event can change something. It is
// inspected all the same, because some inputs of gates change without an event, such as the members of a group.
const idleFor = 15 * time.Second

// idleStage is how long a stage is not inspected, unless something happens in its service after the last
// processed event.
type idleStage struct {
	until time.Time
	heard int64
}

// listen processes the events since its last call.
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

// needsPolling reports whether the result of a gate can change without an event: by time, by invocations, and
// by the inputs of a plan.
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
