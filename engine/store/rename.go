package store

import (
	"context"
	"encoding/json"

	"rudmar/core/manifest"
	"rudmar/core/plan"
)

// rename moves the record of a function to its new name: its resources, and dependencies on them.
func (tx Tx) rename(ctx context.Context, p manifest.Place, was, now string) error {
	type row struct{ address, function, needs string }
	rows, err := list(ctx, tx, func(r scanner) (row, error) {
		var v row
		return v, r.Scan(&v.address, &v.function, &v.needs)
	}, `SELECT address, function, needs FROM records WHERE service = ? AND stage = ? AND target = ?`, p.Service,
		p.Stage, p.Target.String())
	if err != nil {
		return err
	}
	to := map[string]string{was: now}
	for _, r := range rows {
		var needs []string
		if err := json.Unmarshal([]byte(r.needs), &needs); err != nil {
			return err
		}
		for i := range needs {
			needs[i] = plan.Renamed(needs[i], to)
		}
		address, function := plan.Renamed(r.address, to), r.function
		if function == was {
			function = now
		}
		text := toJSON(needs)
		if address == r.address && function == r.function && text == r.needs {
			continue
		}
		if _, err := tx.ExecContext(ctx,
			`UPDATE OR REPLACE records SET address = ?, function = ?, needs = ? WHERE service = ? AND stage = ? AND target = ? AND address = ?`,
			address, function, text, p.Service, p.Stage, p.Target.String(), r.address); err != nil {
			return err
		}
	}
	return nil
}
