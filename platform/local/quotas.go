package local

import (
	"context"
	"fmt"
	"net/http"

	"rudmar/core/resource"
	"rudmar/platform/api"
	"rudmar/sqlstmt"
)

// quotaProblem is the problem type of an exceeded quota.
const quotaProblem = "urn:rudmar:quota"

// quotas are the maximum numbers of resources.
func quotas() []api.Quota {
	return []api.Quota{
		{Kind: resource.Function, Per: api.QuotaPerScope, Limit: 12_000},
		{Kind: resource.Route, Per: api.QuotaPerFunction, Limit: 100},
		{Kind: resource.Schedule, Per: api.QuotaPerFunction, Limit: 50},
		{Kind: resource.Subscription, Per: api.QuotaPerFunction, Limit: 50},
		{Kind: resource.Grant, Per: api.QuotaPerFunction, Limit: 100},
	}
}

// prices are the prices of the simulated platform, for costs in plans.
func prices() []api.Price {
	return []api.Price{
		{Of: api.Invocations, Amount: "0.18", Currency: "EUR"},
		{Of: api.MemoryTime, Amount: "0.000014", Currency: "EUR"},
		{Of: api.LogBytes, Amount: "0.40", Currency: "EUR"},
	}
}

// withinQuotas reports whether one more resource of a kind is allowed.
func withinQuotas(ctx context.Context, tx sqlstmt.Tx, sc scope, kind, function string) error {
	for _, q := range quotas() {
		if q.Kind != kind {
			continue
		}
		// Addresses of one function, or of one scope, are adjacent.
		from, of := kind+"/", sc.String()
		if q.Per == api.QuotaPerFunction {
			from, of = kind+"/"+function+"/", function+" in "+sc.String()
		}
		var there int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM resources
			WHERE region = ? AND service = ? AND stage = ? AND address >= ? AND address < ?`,
			sc.region, sc.service, sc.stage, from, from[:len(from)-1]+"0").Scan(&there); err != nil { // 0 comes after /
			return fmt.Errorf("counting resources: %w", err)
		}
		if there >= q.Limit {
			return &refusal{status: http.StatusForbidden, title: "Quota", kind: quotaProblem,
				detail: fmt.Sprintf("%s can have %d resources of kind %s, and has %d; delete one first, or request a higher quota",
					of, q.Limit, kind, there)}
		}
	}
	return nil
}
