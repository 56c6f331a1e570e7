package store

import "context"

// NoticeBranch reports what a branch that no stage deploys from would change.
const NoticeBranch = "branch.planned"

// BranchPlan is a push to a branch that no stage deploys from, whose plan is reported.
type BranchPlan struct {
	ID                    int64
	Service, Branch, Hash string
	Person                string
}

// QueuedBranches returns the pushes without a plan, oldest first.
func (s *Store) QueuedBranches(ctx context.Context) ([]BranchPlan, error) {
	return list(ctx, s.read, func(r scanner) (BranchPlan, error) {
		var b BranchPlan
		return b, r.Scan(&b.ID, &b.Service, &b.Branch, &b.Hash, &b.Person)
	}, `SELECT id, service, branch, hash, person FROM branch_plans WHERE state = 'queued' ORDER BY id LIMIT 50`)
}

// addBranchPlan queues a plan in the transaction that records the push. Queued plans of older pushes of the
// branch are dropped.
func (tx Tx) addBranchPlan(ctx context.Context, b BranchPlan) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM branch_plans WHERE service = ? AND branch = ? AND state = 'queued'`,
		b.Service, b.Branch); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO branch_plans (service, branch, hash, person, state, text, at) VALUES (?,?,?,?,'queued','',?)`,
		b.Service, b.Branch, b.Hash, b.Person, tx.s.stamp())
	return err
}

// EndBranchPlan stores the plan, and sends its notification; repeated calls do nothing.
func (s *Store) EndBranchPlan(ctx context.Context, b BranchPlan, stage, text string, says []string) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE branch_plans SET state = 'told', text = ?, at = ? WHERE id = ? AND state = 'queued'`,
			text, s.stamp(), b.ID)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return tx.Notify(ctx, NoticeBranch, b.Service, stage, b.Branch+": "+text,
			map[string]any{"branch": b.Branch, "commit": b.Hash, "by": b.Person, "impact": says})
	})
}
