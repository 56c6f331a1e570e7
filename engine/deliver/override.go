package deliver

import (
	"context"
	"fmt"
	"strings"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/store"
)

// Override overrides a gate of a version, for a reason that the journal and the page keep. It requires the
// right, and that the present plan and impact were shown, as for an approval.
func (l *StageLine) Override(ctx context.Context, service string, version int, stage, gate string, say Command) error {
	d, err := l.waiting(ctx, service, version, stage, say.By, rights.Override)
	if err != nil {
		return err
	}
	if strings.TrimSpace(say.Comment) == "" {
		return fmt.Errorf("%w: give a reason", ErrConfirm)
	}
	m, err := l.ImpactOf(ctx, service, stage, version)
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
		if !g.Overridable() {
			continue
		}
		if g.Name == gate {
			return l.store.Override(ctx, d, delivery.Override{Kind: g.Kind, Name: g.Name, Person: say.By.Username,
				Reason: say.Comment})
		}
		names = append(names, g.Name)
	}
	return fmt.Errorf("%w: %q is not a waiting gate that can be overridden (expected one of %s)", ErrNotCounts, gate,
		strings.Join(names, ", "))
}

// WithdrawApproval withdraws somebody's own approval, while the version is waiting.
func (l *StageLine) WithdrawApproval(ctx context.Context, service string, version int, stage string,
	by store.Person) error {
	d, err := l.waiting(ctx, service, version, stage, by, rights.Approve)
	if err != nil {
		return err
	}
	return l.store.WithdrawApproval(ctx, d, by.Username)
}
