package local

import (
	"context"
	"net/http"

	"rudmar/platform/api"
	"rudmar/sqlstmt"
)

// scopeTables lists the tables with the stored data of scopes. The counters of changes and fences are kept: they must
// never repeat.
func scopeTables() []string {
	return []string{"revisions", "tables", "objects", "kept_secrets", "messages", "log_lines", "minutes", "uses", "fires",
		"operations"}
}

func (s *protocol) DeleteScope(ctx context.Context, r api.DeleteScopeRequestObject) (api.DeleteScopeResponseObject,
	error) {
	return api.DeleteScope204Response{}, s.p.clear(ctx, scope{r.Region, r.Service, r.Stage})
}

// clear deletes all stored data of a scope that has no resources.
func (p *Platform) clear(ctx context.Context, sc scope) error {
	p.observed.flush(ctx) // what is still in memory
	return p.store.within(ctx, func(tx sqlstmt.Tx) error {
		var resources int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM resources WHERE region = ? AND service = ? AND stage = ?`,
			sc.region, sc.service, sc.stage).Scan(&resources); err != nil {
			return err
		}
		if resources > 0 {
			return refuse(http.StatusConflict, "%s still has %d resources; delete them first", sc, resources)
		}
		for _, table := range scopeTables() {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE region = ? AND service = ? AND stage = ?`, sc.region,
				sc.service, sc.stage); err != nil {
				return err
			}
		}
		return nil
	})
}
