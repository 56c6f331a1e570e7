package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/timing"
)

// Delivery is the state of a version in one stage.
type Delivery struct {
	Service     string
	Version     int
	Stage       string
	State       delivery.State
	Since       time.Time
	Reason      string
	RequestedBy string
	Deployments []int64 // one per target, newest round last
	// Removes means that the version no longer declares the stage: its entry deletes the stage's resources.
	Removes bool
	// Missing is what a failed version needs to continue automatically: MissesPlatform or BlockedByPlan; "" if
	// a person must retry it.
	Missing string
	// Turn orders versions by arrival: a later one supersedes an earlier one.
	Turn int64
	// Agreed is the approved plan and impact; nil if no approval was needed.
	Agreed []string
	// Choice selects functions of the version; nil for all. Rest means that the remaining ones are requested
	// now; afterwards all are deployed.
	Choice *delivery.Choice
	Rest   bool
	// NotBefore is the requested earliest time of entry, if any.
	NotBefore time.Time
}

// Enters reports whether a function of the version enters with this delivery.
func (d Delivery) Enters(function string) bool { return d.Rest || d.Choice.Enters(function) }

// What a failed version can need.
const (
	MissesPlatform = "platform" // the platform did not respond
	BlockedByPlan  = "plan"     // its plan had a blocker, such as a secret without a value
)

// ErrMoved reports that a delivery is in another state than expected: somebody else was faster.
var ErrMoved = errors.New("changed in the meantime")

const deliveryColumns = `service, version, stage, state, since, why, requested_by, deployments, removes, turn, missing, agreed, choice, rest, not_before`

func takeDelivery(r scanner) (Delivery, error) {
	var d Delivery
	var since, notBefore int64
	var deployments, agreed, choice string
	err := r.Scan(&d.Service, &d.Version, &d.Stage, &d.State, &since, &d.Reason, &d.RequestedBy, &deployments, &d.Removes,
		&d.Turn, &d.Missing, &agreed, &choice, &d.Rest, &notBefore)
	d.Since, d.NotBefore = millis(since), millis(notBefore)
	if err == nil {
		err = json.Unmarshal([]byte(deployments), &d.Deployments)
	}
	if err == nil && agreed != "" {
		err = json.Unmarshal([]byte(agreed), &d.Agreed)
	}
	if err == nil {
		d.Choice, err = choiceOf(choice)
	}
	return d, err
}

// StartDelivery makes a version wait in its stages, and in those that it removes. A version that was superseded
// since waits again as if it were new, except where it is deployed.
func (s *Store) StartDelivery(ctx context.Context, service string, version int, stages, removes []string) error {
	return s.Within(ctx, func(tx Tx) error { return tx.startDelivery(ctx, service, version, stages, removes) })
}

func (tx Tx) startDelivery(ctx context.Context, service string, version int, stages, removes []string) error {
	var newest, own int64
	if err := tx.QueryRowContext(ctx,
		`SELECT coalesce(max(turn), 0), coalesce(max(CASE WHEN version = ? THEN turn END), 0) FROM deliveries WHERE service = ?`, version, service).Scan(&newest, &own); err != nil {
		return err
	}
	turn := newest + 1
	if own == newest && own > 0 {
		turn = own
	}
	for i, stage := range slices.Concat(stages, removes) {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO deliveries (service, version, stage, state, since, removes, turn) VALUES (?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`,
			service, version, stage, delivery.Waiting, tx.s.stamp(), i >= len(stages), turn); err != nil {
			return err
		}
	}
	if own != 0 && turn != own {
		if err := tx.again(ctx, service, version, turn); err != nil {
			return err
		}
	}
	return tx.Publish(ctx, service, TopicDelivery, map[string]any{"version": version, "stage": "", "state": delivery.Waiting})
}

// Undelivered returns the newest versions of a service, up to twenty, without deliveries and newer than all
// that have some: a former process may have ended in between.
func (s *Store) Undelivered(ctx context.Context, service string) ([]int, error) {
	return list(ctx, s.read, func(r scanner) (int, error) {
		var n int
		return n, r.Scan(&n)
	}, `SELECT number FROM versions v WHERE service = ? AND number > (SELECT coalesce(max(version), 0) FROM deliveries d WHERE d.service = v.service) ORDER BY number DESC LIMIT 20`, service)
}

// again gives a version a new turn in all its stages, and makes it wait where it is no longer deployed. Its
// former approvals and overrides are withdrawn.
func (tx Tx) again(ctx context.Context, service string, version int, turn int64) error {
	for _, change := range []struct {
		text string
		args []any
	}{
		{`UPDATE deliveries SET state = 'waiting', since = ?4, why = '', requested_by = '', agreed = '', choice = '', rest = 0, not_before = 0 WHERE service = ?1 AND version = ?2 AND turn < ?3
			AND state IN ('settled', 'failed', 'rejected', 'rolled-back', 'superseded')
			AND NOT (state = 'settled' AND EXISTS (SELECT 1 FROM standing s WHERE s.service = deliveries.service AND s.stage = deliveries.stage AND s.version = deliveries.version))`,
			[]any{service, version, turn, tx.s.stamp()}},
		{`DELETE FROM approvals WHERE service = ?1 AND version = ?2 AND stage IN (SELECT stage FROM deliveries WHERE service = ?1 AND version = ?2 AND state = 'waiting' AND turn < ?3)`,
			[]any{service, version, turn}},
		{`DELETE FROM passed_over WHERE service = ?1 AND version = ?2 AND stage IN (SELECT stage FROM deliveries WHERE service = ?1 AND version = ?2 AND state = 'waiting' AND turn < ?3)`,
			[]any{service, version, turn}},
		{`UPDATE deliveries SET turn = ?3 WHERE service = ?1 AND version = ?2 AND turn < ?3`, []any{service, version, turn}},
	} {
		if _, err := tx.ExecContext(ctx, change.text, change.args...); err != nil {
			return err
		}
	}
	return tx.Note(ctx, Entry{Service: service, What: "delivery", Text: "version " + itoa(version) + " was pushed again"})
}

// Deliveries returns the deliveries of a service, newest version first.
func (s *Store) Deliveries(ctx context.Context, service string) ([]Delivery, error) {
	return list(ctx, s.read, takeDelivery,
		`SELECT `+deliveryColumns+` FROM deliveries WHERE service = ? ORDER BY turn DESC, version DESC, rowid`, service)
}

// StagesToPoll returns the stages of a service in which something can happen automatically: those with a
// waiting, active or failed delivery.
func (s *Store) StagesToPoll(ctx context.Context, service string) ([]string, error) {
	return list(ctx, s.read, takeText, `SELECT DISTINCT stage FROM deliveries INDEXED BY deliveries_restless
		WHERE service = ? AND state IN ('waiting', 'planning', 'deploying', 'shifting', 'testing', 'failed')`, service)
}

// recentTurns is the number of turns whose ended deliveries are listed.
const recentTurns = 50

// CurrentDeliveries returns the current deliveries of a service, newest version first: active ones, those that
// wait, failed or settled at or after the deployed one, the previously settled one, and those of the newest
// version.
func (s *Store) CurrentDeliveries(ctx context.Context, service string) ([]Delivery, error) {
	return list(ctx, s.read, takeDelivery,
		`WITH here AS (SELECT stage, min(version) AS version FROM stages WHERE service = ?1 GROUP BY stage),
			since AS (SELECT d.stage, d.turn FROM deliveries d JOIN here USING (stage, version) WHERE d.service = ?1),
			newest AS (SELECT max(turn) AS turn FROM deliveries WHERE service = ?1),
			before AS (SELECT d.stage, max(d.turn) AS turn FROM deliveries d JOIN since USING (stage)
				WHERE d.service = ?1 AND d.state = 'settled' AND d.turn < since.turn AND d.deployments <> '[]' GROUP BY d.stage)
		SELECT `+deliveryColumns+` FROM deliveries d WHERE service = ?1 AND (state IN ('planning', 'deploying', 'shifting', 'testing')
			OR turn > (SELECT turn FROM newest) - ?2
			OR turn = (SELECT turn FROM before WHERE before.stage = d.stage)
			OR state IN ('waiting', 'failed', 'settled')
				AND turn >= coalesce((SELECT turn FROM since WHERE since.stage = d.stage), 0))
		ORDER BY turn DESC, version DESC, rowid`, service, recentTurns)
}

// DeliveriesOf returns the deliveries of some versions, each in the order of its stages.
func (s *Store) DeliveriesOf(ctx context.Context, service string, versions ...int) ([]Delivery, error) {
	return list(ctx, s.read, takeDelivery, `SELECT `+deliveryColumns+` FROM deliveries
		WHERE service = ? AND version IN (SELECT value FROM json_each(?)) ORDER BY rowid`, service, toJSON(versions))
}

// Delivery returns a version's delivery to a stage.
func (s *Store) Delivery(ctx context.Context, service string, version int, stage string) (Delivery, error) {
	return one(ctx, s.read, takeDelivery,
		`SELECT `+deliveryColumns+` FROM deliveries WHERE service = ? AND version = ? AND stage = ?`, service, version, stage)
}

// Move is a change of a delivery that is in the state From.
type Move struct {
	From   delivery.State
	To     Delivery
	Person string
	Target string // the target whose deployment starts; "" for another transition
}

// MoveDeliveries changes deliveries one after another, each with its consequences, journal entries and
// notifications, in one transaction. ErrMoved if one is in another state by now.
func (s *Store) MoveDeliveries(ctx context.Context, moves ...Move) error {
	return s.Within(ctx, func(tx Tx) error { return tx.moveDeliveries(ctx, moves) })
}

// RestoreDelivery is MoveDeliveries for a rollback, with the shift of the restored version.
func (s *Store) RestoreDelivery(ctx context.Context, v Shift, moves ...Move) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := tx.moveDeliveries(ctx, moves); err != nil {
			return err
		}
		return tx.PutShift(ctx, v)
	})
}

func (tx Tx) moveDeliveries(ctx context.Context, moves []Move) error {
	for _, m := range moves {
		if err := tx.MoveDelivery(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// MoveDelivery changes a delivery as part of a transaction.
func (tx Tx) MoveDelivery(ctx context.Context, m Move) error {
	from, d := m.From, m.To
	if delivery.Moving(d.State) && !delivery.Moving(from) {
		if err := tx.requireIdle(ctx, d.Service, d.Stage); err != nil {
			return err
		}
	}
	agreed := ""
	if d.Agreed != nil {
		agreed = toJSON(d.Agreed)
	}
	result, err := tx.ExecContext(ctx,
		`UPDATE deliveries SET state = ?, since = ?, why = ?, requested_by = ?, deployments = ?, agreed = ?, missing = ?, choice = ?, rest = ? WHERE service = ? AND version = ? AND stage = ? AND state = ?
			AND (state <> 'waiting' OR choice = ?)`, // a newer request is not overwritten
		d.State, tx.s.stamp(), d.Reason, d.RequestedBy, toJSON(append([]int64{}, d.Deployments...)), agreed, d.Missing,
		choiceText(d.Choice), d.Rest, d.Service, d.Version, d.Stage, from, choiceText(d.Choice))
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("version %d in %s is no longer %s: %w", d.Version, d.Stage, from, ErrMoved))
	}
	if d.State == delivery.Settled {
		if err := tx.stand(ctx, d); err != nil {
			return err
		}
	}
	if delivery.Over(d.State) {
		if err := tx.endShift(ctx, d); err != nil {
			return err
		}
	}
	if d.State == delivery.Planning {
		if err := tx.dropCases(ctx, d); err != nil {
			return err
		}
	}
	text := "version " + itoa(d.Version) + " is " + string(d.State)
	switch {
	case d.State == delivery.Failed:
		text = "version " + itoa(d.Version) + " failed"
	case d.State == delivery.RolledBack:
		text = "version " + itoa(d.Version) + " was rolled back"
	case d.State == delivery.Rejected, d.State == delivery.Superseded:
		text = "version " + itoa(d.Version) + " was " + string(d.State)
	case m.Target != "":
		text += " to " + m.Target
	case d.Removes && d.State == delivery.Settled:
		text = "version " + itoa(d.Version) + " deleted the stage"
	}
	if d.Reason != "" {
		text += " (" + d.Reason + ")"
	}
	if err := tx.Note(ctx,
		Entry{Person: m.Person, Service: d.Service, Stage: d.Stage, What: "delivery", Text: text}); err != nil {
		return err
	}
	if from != delivery.Waiting { // a delivery that waited for the remaining functions and stays unchanged has not entered
		if err := tx.pass(ctx, d); err != nil {
			return err
		}
	}
	data := map[string]any{"version": d.Version, "state": d.State, "reason": d.Reason, "by": m.Person}
	if m.Target != "" {
		data["target"] = m.Target
	}
	if err := tx.Notify(ctx, noticeDelivery+string(d.State), d.Service, d.Stage, text, data); err != nil {
		return err
	}
	return tx.Publish(ctx, d.Service, TopicDelivery, map[string]any{"version": d.Version, "stage": d.Stage, "state": d.State})
}

// requireIdle checks that no version is in progress in a stage.
func (tx Tx) requireIdle(ctx context.Context, service, stage string) error {
	var version int
	err := tx.QueryRowContext(ctx, `SELECT version FROM deliveries WHERE service = ? AND stage = ? AND state IN (?, ?, ?, ?)`,
		service, stage, delivery.Planning, delivery.Deploying, delivery.Shifting, delivery.Testing).Scan(&version)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err == nil {
		err = fmt.Errorf("version %d is moving in %s: %w", version, stage, ErrMoved)
	}
	return err
}

// ifWaiting changes a delivery if it is waiting, in one transaction.
func (s *Store) ifWaiting(ctx context.Context, service string, version int, stage string,
	change func(tx Tx) error) error {
	return s.Within(ctx, func(tx Tx) error {
		var state delivery.State
		err := tx.QueryRowContext(ctx, `SELECT state FROM deliveries WHERE service = ? AND version = ? AND stage = ?`,
			service, version, stage).Scan(&state)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return ErrNotFound
		case err != nil:
			return err
		case state != delivery.Waiting:
			return fmt.Errorf("version %d is %s in %s: %w", version, state, stage, ErrMoved)
		}
		if err := change(tx); err != nil {
			return err
		}
		return tx.Publish(ctx, service, TopicDelivery, map[string]any{"version": version, "stage": stage, "state": state})
	})
}

// Request records a request for a waiting version in a stage, or for some functions of it, at once or from a
// time on.
func (s *Store) Request(ctx context.Context, service string, version int, stage, person string,
	choice *delivery.Choice, notBefore time.Time) error {
	return s.ifWaiting(ctx, service, version, stage, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx,
			`UPDATE deliveries SET requested_by = ?, not_before = ?, choice = CASE rest WHEN 1 THEN choice ELSE ? END WHERE service = ? AND version = ? AND stage = ?`,
			person, stampOf(notBefore), choiceText(choice), service, version, stage); err != nil {
			return err
		}
		text := "version " + itoa(version)
		if choice != nil {
			text = strings.Join(choice.Functions, ", ") + " of " + text
		}
		if !notBefore.IsZero() {
			text += ", not before " + notBefore.UTC().Format(timing.Written) + ""
		}
		return tx.Note(ctx, Entry{Person: person, Service: service, Stage: stage, What: "delivery requested", Text: text})
	})
}

// Approval is one person's approval.
type Approval struct {
	Person, Comment string
	At              time.Time
	Shown           []string // the plan and impact as shown to them
}

// Approve records an approval of a waiting version; it replaces the person's earlier one.
func (s *Store) Approve(ctx context.Context, service string, version int, stage string, a Approval) error {
	return s.ifWaiting(ctx, service, version, stage, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO approvals (service, version, stage, person, comment, at, shown) VALUES (?,?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET comment = excluded.comment, at = excluded.at, shown = excluded.shown`,
			service, version, stage, a.Person, a.Comment, s.stamp(), toJSON(append([]string{}, a.Shown...))); err != nil {
			return err
		}
		text := "version " + itoa(version)
		if a.Comment != "" {
			text += ": " + a.Comment
		}
		return tx.Note(ctx, Entry{Person: a.Person, Service: service, Stage: stage, What: "approved", Text: text})
	})
}

// Approvals returns the approvals of a version for a stage.
func (s *Store) Approvals(ctx context.Context, service string, version int, stage string) ([]Approval, error) {
	return list(ctx, s.read, func(r scanner) (Approval, error) {
		var a Approval
		var at int64
		var shown string
		err := r.Scan(&a.Person, &a.Comment, &at, &shown)
		a.At = millis(at)
		if err == nil {
			err = json.Unmarshal([]byte(shown), &a.Shown)
		}
		return a, err
	}, `SELECT person, comment, at, shown FROM approvals WHERE service = ? AND version = ? AND stage = ? ORDER BY at`,
		service, version, stage)
}

// GateResults is how the gates of a delivery were judged last.
type GateResults struct {
	Version int
	Stage   string
	At      time.Time
	Body    string // JSON
}

// PutGateResults stores the gate results of a delivery, in place of the former ones.
func (s *Store) PutGateResults(ctx context.Context, service string, j GateResults) error {
	return s.Within(ctx, func(tx Tx) error {
		_, err := tx.ExecContext(ctx,
			`INSERT INTO judgements (service, version, stage, at, body) VALUES (?,?,?,?,?) ON CONFLICT DO UPDATE SET at = excluded.at, body = excluded.body`,
			service, j.Version, j.Stage, s.stamp(), j.Body)
		if err != nil {
			return err
		}
		return tx.Publish(ctx, service, TopicGates, map[string]any{"version": j.Version, "stage": j.Stage})
	})
}

// GateResults returns the stored gate results of a service's deliveries: of waiting ones, or of one version in
// any state.
func (s *Store) GateResults(ctx context.Context, service string, version int) ([]GateResults, error) {
	return list(ctx, s.read, func(r scanner) (GateResults, error) {
		var j GateResults
		var at int64
		err := r.Scan(&j.Version, &j.Stage, &at, &j.Body)
		j.At = millis(at)
		return j, err
	}, `SELECT version, stage, at, body FROM judgements j WHERE service = ?1 AND (version = ?2
		OR ?2 = 0 AND EXISTS (SELECT 1 FROM deliveries d WHERE d.service = j.service AND d.version = j.version AND d.stage = j.stage AND d.state = ?3))`, service, version, delivery.Waiting)
}
