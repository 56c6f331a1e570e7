package deliver

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"rudmar/core/delivery"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

// Request asks for a version in a stage that is entered on request.
func (l *Line) Request(ctx context.Context, service string, version int, stage string, by store.Person) error {
	d, err := l.waiting(ctx, service, version, stage, by, people.Deploy)
	if err != nil {
		return err
	}
	if err := l.store.Request(ctx, d.Service, d.Version, d.Stage, by.Handle); err != nil {
		return err
	}
	l.changed(ctx, d)
	return nil
}

func (l *Line) waiting(ctx context.Context, service string, version int, stage string, by store.Person, a people.Ability) (store.Delivery, error) {
	if err := people.May(by, a); err != nil {
		return store.Delivery{}, err
	}
	d, err := l.store.Delivery(ctx, service, version, stage)
	if err != nil {
		return d, fmt.Errorf("version %d in %s: %w", version, stage, err)
	}
	if d.State != delivery.Waiting {
		return d, fmt.Errorf("version %d is %s in %s: %w", version, d.State, stage, delivery.ErrTransition)
	}
	return d, nil
}

func (l *Line) changed(ctx context.Context, d store.Delivery) {
	l.events.Tell(ctx, d.Service, "delivery", map[string]any{"version": d.Version, "stage": d.Stage, "state": d.State})
	l.Nudge()
}

// Approve says yes to a version. One that would not count is refused, and says why.
func (l *Line) Approve(ctx context.Context, service string, version int, stage string, by store.Person, comment string) error {
	d, err := l.waiting(ctx, service, version, stage, by, people.Approve)
	if err != nil {
		return err
	}
	s, v, err := l.planner.Service(ctx, service, version)
	if err != nil {
		return err
	}
	st := s.Stage(stage)
	if st == nil || st.Gates.Approvals == nil {
		return fmt.Errorf("%w: %s asks for no approval", ErrNotCounts, stage)
	}
	a := st.Gates.Approvals
	if !delivery.Counts(*a, delivery.Approval{Person: by.Handle, Groups: by.Groups}, v.Author) {
		if by.Handle == v.Author {
			return fmt.Errorf("%w: %s wrote this version, and %s wants somebody else's approval", ErrNotCounts, by.Handle, stage)
		}
		return fmt.Errorf("%w: %s wants approvals from %s, and %s does not belong to it", ErrNotCounts, stage, a.From, by.Handle)
	}
	if err := l.store.Approve(ctx, service, version, stage, store.Approval{Person: by.Handle, Comment: comment}); err != nil {
		return err
	}
	l.changed(ctx, d)
	return nil
}

// Refuse says no to a version.
func (l *Line) Refuse(ctx context.Context, service string, version int, stage string, by store.Person, why string) error {
	if err := people.May(by, people.Approve); err != nil {
		return err
	}
	return l.event(ctx, service, version, stage, delivery.Refuse, by, why)
}

// Retry makes a version that stopped go on: it is planned and deployed again.
func (l *Line) Retry(ctx context.Context, service string, version int, stage string, by store.Person) error {
	if err := people.May(by, people.Deploy); err != nil {
		return err
	}
	return l.event(ctx, service, version, stage, delivery.Retry, by, "")
}

func (l *Line) event(ctx context.Context, service string, version int, stage string, e delivery.Event, by store.Person, why string) error {
	d, err := l.store.Delivery(ctx, service, version, stage)
	if err != nil {
		return fmt.Errorf("version %d in %s: %w", version, stage, err)
	}
	if err := l.apply(ctx, d, e, by.Handle, why); err != nil {
		return err
	}
	l.Nudge()
	return nil
}

// GoBack puts an earlier version back in a stage: what is newer there went
// back, and the earlier one is planned, deployed and proved like any other.
func (l *Line) GoBack(ctx context.Context, service string, version int, stage string, by store.Person, why string) error {
	if err := people.May(by, people.Deploy); err != nil {
		return err
	}
	rows, err := l.store.Deliveries(ctx, service)
	if err != nil {
		return err
	}
	in := slices.DeleteFunc(rows, func(d store.Delivery) bool { return d.Stage != stage })
	at := slices.IndexFunc(in, func(d store.Delivery) bool { return d.Version == version })
	if at < 0 || len(in[at].Deployments) == 0 {
		return fmt.Errorf("%w: version %d in %s", ErrNotThere, version, stage)
	}
	if slices.ContainsFunc(in, func(d store.Delivery) bool { return delivery.Moving(d.State) }) {
		return fmt.Errorf("a version moves in %s right now: %w", stage, delivery.ErrTransition)
	}
	var errs error
	for _, d := range in {
		if d.Version > version && (d.State == delivery.Settled || d.State == delivery.Stopped) {
			text := fmt.Sprintf("version %d was put back", version)
			if why != "" {
				text += ": " + why
			}
			errs = errors.Join(errs, l.apply(ctx, d, delivery.TakeBack, by.Handle, text))
		}
	}
	if errs != nil {
		return errs
	}
	return l.event(ctx, service, version, stage, delivery.Return, by, why)
}
