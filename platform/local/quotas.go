package local

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"

	"rudmar/core/resource"
	"rudmar/platform/api"
)

// quotaProblem is the type of the problem of one resource too many.
const quotaProblem = "urn:rudmar:quota"

// quotas is how many resources there may be.
func quotas() []api.Quota {
	return []api.Quota{
		{Kind: resource.Function, Per: api.QuotaPerScope, Limit: 12_000},
		{Kind: resource.Route, Per: api.QuotaPerFunction, Limit: 100},
		{Kind: resource.Schedule, Per: api.QuotaPerFunction, Limit: 50},
		{Kind: resource.Subscription, Per: api.QuotaPerFunction, Limit: 50},
		{Kind: resource.Grant, Per: api.QuotaPerFunction, Limit: 100},
	}
}

// prices is what the simulated platform would cost, so that cost can be seen in plans.
func prices() []api.Price {
	return []api.Price{
		{Of: api.Calls, Amount: "0.18", Currency: "EUR"},
		{Of: api.MemoryTime, Amount: "0.000014", Currency: "EUR"},
		{Of: api.LogBytes, Amount: "0.40", Currency: "EUR"},
	}
}

// withinQuotas tells whether one more resource of a kind may be there.
func withinQuotas(ctx context.Context, tx *sql.Tx, sc scope, kind, function string) error {
	for _, q := range quotas() {
		if q.Kind != kind {
			continue
		}
		where, args, of := "", []any{kind, sc.region}, sc.region
		switch q.Per {
		case api.QuotaPerScope:
			where, args, of = "AND service = ? AND stage = ?", append(args, sc.service, sc.stage), sc.String()
		case api.QuotaPerFunction:
			address := kind + "/" + function + "/"
			where, args, of = "AND service = ? AND stage = ? AND substr(address, 1, length(?)) = ?",
				append(args, sc.service, sc.stage, address, address), function+" in "+sc.String()
		}
		var there int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM resources WHERE kind = ? AND region = ? `+where,
			args...).Scan(&there); err != nil {
			return fmt.Errorf("counting resources: %w", err)
		}
		if there >= q.Limit {
			return &refusal{status: http.StatusForbidden, title: "Quota", kind: quotaProblem,
				detail: fmt.Sprintf("%s may have %d resources of the kind %s, and has %d; take one away first, or ask for more",
					of, q.Limit, kind, there)}
		}
	}
	return nil
}
