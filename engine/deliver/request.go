package deliver

import (
	"context"
	"fmt"
	"slices"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/core/timing"
	"rudmar/engine/store"
)

// Command has the arguments of an operation on a delivery.
type Command struct {
	By      store.Person
	Comment string
	// Shown is the digest of the plan and impact that were shown to them (Meaning.Digest).
	Shown string
	// Confirm is the stage's name, typed, if the entry deletes data or widens access.
	Confirm string
	// Functions are the requested functions; none for all.
	Functions []string
	// At is the earliest time of entry of the requested version, if its gates pass; zero for at once.
	At time.Time
}

// latest is how far ahead a version can be requested.
const latest = 30 * 24 * time.Hour

// inTime checks the requested time.
func (l *StageLine) inTime(at time.Time) error {
	now := l.store.Now()
	switch {
	case at.IsZero():
		return nil
	case !at.After(now):
		return fmt.Errorf("%w: %s is in the past", ErrTime, at.UTC().Format(timing.Written))
	case at.After(now.Add(latest)):
		return fmt.Errorf("%w: %s is more than 30 days ahead", ErrTime, at.UTC().Format(timing.Written))
	}
	return nil
}

// May returns nil if somebody has a permission in a stage of a service; the error wraps rights.ErrDenied.
func May(p store.Person, a rights.Permission, service, stage string) error {
	return MayIn(p, a, rights.Scope{Service: service, Stage: stage})
}

// MayIn returns nil if somebody has a permission in a scope; the error wraps rights.ErrDenied.
func MayIn(p store.Person, a rights.Permission, in rights.Scope) error {
	if p.Closed {
		return fmt.Errorf("%w: %s is closed", rights.ErrDenied, p.Username)
	}
	return rights.May(p.Rights(), a, in)
}

// confirmed checks that somebody was shown the present plan and impact, and typed the stage's name if the
// entry deletes data or widens access.
func confirmed(m *Impact, stage string, say Command) error {
	switch {
	case say.Shown == "":
		return fmt.Errorf("%w: review the impact first, and send its digest", ErrImpactChanged)
	case say.Shown != m.Digest:
		return fmt.Errorf("%w; review the impact again", ErrImpactChanged)
	case m.Confirm != "" && say.Confirm != stage:
		return fmt.Errorf("%w: %s: type the stage's name, %s", ErrConfirm, m.Confirm, stage)
	}
	return nil
}

// askable is confirmed for a request: it needs that only if the entry deletes data or widens access.
func askable(m *Impact, stage string, say Command) error {
	if m.Confirm == "" {
		return nil
	}
	return confirmed(m, stage, say)
}

// Request requests a version in a stage that is entered on request. It must be confirmed if the entry deletes
// data or widens access.
func (l *StageLine) Request(ctx context.Context, service string, version int, stage string, say Command) error {
	d, err := l.waiting(ctx, service, version, stage, say.By, rights.Request)
	if err != nil {
		return err
	}
	if err := l.inTime(say.At); err != nil {
		return err
	}
	m, choice, err := l.ImpactOfSelection(ctx, service, stage, version, say.Functions)
	if err != nil {
		return err
	}
	if err := askable(m, stage, say); err != nil {
		return err
	}
	return l.store.Request(ctx, d.Service, d.Version, d.Stage, say.By.Username, choice, say.At)
}

func (l *StageLine) waiting(ctx context.Context, service string, version int, stage string, by store.Person,
	a rights.Permission) (store.Delivery, error) {
	if err := May(by, a, service, stage); err != nil {
		return store.Delivery{}, err
	}
	d, err := l.store.Delivery(ctx, service, version, stage)
	if err != nil {
		return d, store.Missing(err, "version %d in %s", version, stage)
	}
	if d.State != delivery.Waiting {
		return d, fmt.Errorf("version %d is %s in %s: %w", version, d.State, stage, delivery.ErrTransition)
	}
	return d, nil
}

// Approve records an approval of the impact of a version in a stage. It rejects an approval that
// would not count, with the reason.
func (l *StageLine) Approve(ctx context.Context, service string, version int, stage string, say Command) error {
	d, err := l.waiting(ctx, service, version, stage, say.By, rights.Approve)
	if err != nil {
		return err
	}
	if err := l.counts(ctx, d, say.By); err != nil {
		return err
	}
	m, err := l.ImpactOf(ctx, service, stage, version)
	if err != nil {
		return err
	}
	if err := confirmed(m, stage, say); err != nil {
		return err
	}
	return l.store.Approve(ctx, service, version, stage,
		store.Approval{Person: say.By.Username, Comment: say.Comment, Shown: m.Lines})
}

// CanApprove returns nil if somebody can still give an approval of a waiting version that counts.
func (l *StageLine) CanApprove(ctx context.Context, d store.Delivery, by store.Person) error {
	if err := May(by, rights.Approve, d.Service, d.Stage); err != nil {
		return err
	}
	given, err := l.store.Approvals(ctx, d.Service, d.Version, d.Stage)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(given, func(a store.Approval) bool { return a.Person == by.Username }) {
		return fmt.Errorf("%w: %s has approved this version", ErrNotCounts, by.Username)
	}
	return l.counts(ctx, d, by)
}

// counts returns nil if somebody's approval would count for any of the approval gates; the error says why not.
func (l *StageLine) counts(ctx context.Context, d store.Delivery, by store.Person) error {
	entry, err := l.planner.Entry(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return err
	}
	asked := approvalsOf(entry)
	if len(asked) == 0 {
		return fmt.Errorf("%w: %s requires no approval", ErrNotCounts, d.Stage)
	}
	_, v, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return err
	}
	who, authorsErr := l.authors(ctx, d.Service, d.Stage, v.Hash)
	authors := who.pushers
	wrote, known := who.wrote(by)
	if wrote {
		authors = append(slices.Clone(authors), by.Username)
	}
	var why error
	for _, a := range asked {
		switch {
		case delivery.Counts(a, delivery.Approval{Person: by.Username, Groups: by.Groups}, authors) &&
			(authorsErr == nil && known || a.AllowPushers):
			return nil
		case authorsErr != nil && !a.AllowPushers:
			why = fmt.Errorf("%w: its authors are unknown: %w", ErrNotCounts, authorsErr)
		case !known && !a.AllowPushers && (a.From == "" || slices.Contains(by.Groups, a.From)):
			why = fmt.Errorf("%w: %s brought its commits, and %s has no email address by which to tell whether they wrote them; an administrator sets it with rudmar user email",
				ErrNotCounts, who.remote, by.Username)
		case a.From != "" && !slices.Contains(by.Groups, a.From):
			why = fmt.Errorf("%w: %s requires approvals from %s, and %s is not a member", ErrNotCounts,
				d.Stage, a.From, by.Username)
		case wrote:
			why = fmt.Errorf("%w: %s wrote commits of this version, according to the remote of %s, and %s requires the approval of someone else",
				ErrNotCounts, by.Username, who.remote, d.Stage)
		default:
			why = fmt.Errorf("%w: %s pushed commits of this version that are not yet in %s, which requires the approval of someone else", ErrNotCounts, by.Username, d.Stage)
		}
	}
	return why
}

// Refuse rejects a version. If the stage requires approvals of a group, only its members can.
func (l *StageLine) Refuse(ctx context.Context, service string, version int, stage string,
	by store.Person, why string) error {
	if err := May(by, rights.Approve, service, stage); err != nil {
		return err
	}
	entry, err := l.planner.Entry(ctx, service, stage, version)
	if err != nil {
		return err
	}
	asked := approvalsOf(entry)
	if len(asked) > 0 && !slices.ContainsFunc(asked,
		func(a manifest.Approvals) bool { return a.From == "" || slices.Contains(by.Groups, a.From) }) {
		return fmt.Errorf("%w: only %s can decide about %s, and %s is not a member", ErrNotCounts, stage,
			asked[0].From, by.Username)
	}
	return l.event(ctx, service, version, stage, delivery.Reject, by, why)
}

// approvalsOf lists the approval gates of an entry.
func approvalsOf(e delivery.Entry) []manifest.Approvals {
	var out []manifest.Approvals
	for _, s := range e.Rules() {
		if s.Gates.Approvals != nil {
			out = append(out, *s.Gates.Approvals)
		}
	}
	return out
}

// Retry continues a failed delivery: it is planned and deployed again, within the approved plan.
func (l *StageLine) Retry(ctx context.Context, service string, version int, stage string, by store.Person) error {
	if err := May(by, rights.Deploy, service, stage); err != nil {
		return err
	}
	return l.event(ctx, service, version, stage, delivery.Retry, by, "")
}

func (l *StageLine) event(ctx context.Context, service string, version int, stage string, e delivery.Event,
	by store.Person, why string) error {
	d, err := l.store.Delivery(ctx, service, version, stage)
	if err != nil {
		return store.Missing(err, "version %d in %s", version, stage)
	}
	return l.apply(ctx, d, e, by.Username, why)
}

// RollbackConfirmation returns why the person who restores a version in a stage must type the stage's name: because of
// the impact, or because it is the last stage; "" if they need not.
func (l *StageLine) RollbackConfirmation(ctx context.Context, service, stage string, version int,
	m *Impact) (string, error) {
	own, _, err := l.planner.Service(ctx, service, version)
	if err != nil {
		return "", err
	}
	if n := len(own.Stages); n < 2 || own.Stages[n-1].Name != stage {
		return m.Confirm, nil
	}
	why := stage + " is the last stage"
	if m.Confirm != "" {
		why = m.Confirm + "; " + why
	}
	return why, nil
}

// RollBackTo restores an earlier version in a stage, with exactly the plan that was shown: later versions are
// marked as rolled back, and the earlier one is planned, deployed and tested like any other.
func (l *StageLine) RollBackTo(ctx context.Context, service string, version int, stage string, say Command) error {
	if err := May(say.By, rights.Deploy, service, stage); err != nil {
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
		return fmt.Errorf("a version is moving in %s: %w", stage, delivery.ErrTransition)
	}
	m, err := l.ImpactOf(ctx, service, stage, version)
	if err != nil {
		return err
	}
	asked := *m
	if asked.Confirm, err = l.RollbackConfirmation(ctx, service, stage, version, m); err != nil {
		return err
	}
	if err := confirmed(&asked, stage, say); err != nil {
		return err
	}
	d := in[at]
	d.Agreed = m.Lines
	back, err := moveBy(d, delivery.Redeploy, say.By.Username, say.Comment)
	if err != nil {
		return err
	}
	moves := []store.Move{back}
	for _, later := range in {
		if later.Turn > d.Turn && (later.State == delivery.Settled || later.State == delivery.Failed) {
			text := fmt.Sprintf("rolled back to version %d by %s", version, say.By.Username)
			if say.Comment != "" {
				text += ": " + say.Comment
			}
			gone, err := moveBy(later, delivery.RollBack, say.By.Username, text)
			if err != nil {
				return err
			}
			moves = append(moves, gone)
		}
	}
	settled, err := l.store.WasSettled(ctx, d)
	if err != nil {
		return err
	}
	if !settled { // it is deployed like a new version
		return l.store.MoveDeliveries(ctx, moves...) // all are done, or somebody else was faster
	}
	return l.store.RestoreDelivery(ctx, restoring(d), moves...)
}
