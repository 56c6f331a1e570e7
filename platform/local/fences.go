package local

import (
	"context"
	"net/http"

	"rudmar/sqlstmt"
)

// fenced rejects a change whose fence is smaller than one that the scope has seen, and stores a greater one. A
// change without one (0) is manual, and not checked.
func fenced(ctx context.Context, tx sqlstmt.Tx, sc scope, fence int64) error {
	if fence == 0 {
		return nil
	}
	var kept int64
	err := tx.QueryRowContext(ctx, `INSERT INTO fences (region, service, stage, fence) VALUES (?,?,?,?)
		ON CONFLICT DO UPDATE SET fence = max(fence, excluded.fence) RETURNING fence`, sc.region, sc.service, sc.stage,
		fence).Scan(&kept)
	if err == nil && fence < kept {
		return &refusal{status: http.StatusPreconditionFailed, title: "Fenced off", kind: "urn:rudmar:fence",
			detail: "someone else has taken over this deployment since the request"}
	}
	return err
}
