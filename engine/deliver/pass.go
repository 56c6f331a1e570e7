package deliver

import (
	"context"
	"fmt"
	"strings"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/store"
)

// PassOver lets a version enter without one of its gates, for a reason that the journal
// and the page keep. It takes the right to, and what entering means has to have been
// shown, as for an approval.
func (l *Line) PassOver(ctx context.Context, service string, version int, stage, gate string, say Say) error {
	d, err := l.waiting(ctx, service, version, stage, say.By, rights.PassOver)
	if err != nil {
		return err
	}
	if strings.TrimSpace(say.Comment) == "" {
		return fmt.Errorf("%w: say why", ErrConfirm)
	}
	m, err := l.Means(ctx, service, stage, version)
	if err != nil {
		return err
	}
	if err := confirmed(m, stage, say); err != nil {
		return err
	}
	judged, err := l.Judge(ctx, d)
	if err != nil {
		return err
	}
	var names []string
	for _, g := range judged.Gates {
		if !g.Passable() {
			continue
		}
		if g.Name == gate {
			return l.store.PassOver(ctx, d, delivery.Passed{Kind: g.Kind, Name: g.Name, Person: say.By.Handle,
				Reason: say.Comment})
		}
		names = append(names, g.Name)
	}
	return fmt.Errorf("%w: %q is no gate that waits and can be passed over; there are: %s", ErrNotCounts, gate,
		strings.Join(names, ", "))
}

// TakeApprovalBack takes somebody's own approval back, as long as the version waits.
func (l *Line) TakeApprovalBack(ctx context.Context, service string, version int, stage string, by store.Person) error {
	d, err := l.waiting(ctx, service, version, stage, by, rights.Approve)
	if err != nil {
		return err
	}
	return l.store.TakeApprovalBack(ctx, d, by.Handle)
}
