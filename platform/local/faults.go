package local

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/platform/api"
)

// faults is how a region answers the protocol, for tests and for showing.
type faults struct {
	SlowMs     float64 `json:"slow_ms"`     // added to the duration of each request
	Throttled  float64 `json:"throttled"`   // the share of throttled requests, from 0 to 1
	FailBefore float64 `json:"fail_before"` // the share that fails without an effect
	FailAfter  float64 `json:"fail_after"`  // the share of changes that fail after they took effect
	LateMs     float64 `json:"late_ms"`     // how long a change stays invisible
	TakeMs     float64 `json:"take_ms"`     // the duration of a change, as an operation
}

// faultStore has the faults of the regions, and recent changes.
type faultStore struct {
	store *store
	now   func() time.Time

	mu      sync.Mutex
	regions map[string]faults
	recent  map[scope][]change
}

// change is a resource as it was before it changed.
type change struct {
	at      time.Time
	address string
	before  *api.Resource // nil if it did not exist
}

// keptChanges bounds how many changes of a scope are remembered.
const keptChanges = 1000

func openFaults(ctx context.Context, s *store, now func() time.Time) (*faultStore, error) {
	k := &faultStore{store: s, now: now, regions: map[string]faults{}, recent: map[scope][]change{}}
	rows, err := s.db.QueryContext(ctx, `SELECT region, setting FROM weather`)
	if err != nil {
		return nil, fmt.Errorf("reading the faults: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var region, text string
		var w faults
		if err := rows.Scan(&region, &text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &w); err != nil {
			return nil, err
		}
		k.regions[region] = w
	}
	return k, rows.Err()
}

func (k *faultStore) of(region string) faults {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.regions[region]
}

// setFaults changes a region's faults, by hand.
func (p *Platform) setFaults(c *echo.Context) error {
	region := c.Param("region")
	if !slices.Contains(regions(), region) {
		return refuse(http.StatusNotFound, "unknown region %q (expected %s)", region, strings.Join(regions(), ", "))
	}
	var w faults
	decoder := json.NewDecoder(c.Request().Body)
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&w); err != nil {
		return refuse(http.StatusUnprocessableEntity,
			"the faults are slow_ms, throttled, fail_before, fail_after, late_ms and take_ms: %v", err)
	}
	for _, share := range []float64{w.Throttled, w.FailBefore, w.FailAfter} {
		if share < 0 || share > 1 {
			return refuse(http.StatusUnprocessableEntity, "a share must be between 0 and 1, not %v", share)
		}
	}
	for _, ms := range []float64{w.SlowMs, w.LateMs, w.TakeMs} {
		if ms < 0 || ms > 600_000 {
			return refuse(http.StatusUnprocessableEntity, "a time must be between 0 and 600000 ms, not %v", ms)
		}
	}
	text, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if _, err := p.store.db.ExecContext(c.Request().Context(),
		`INSERT INTO weather (region, setting) VALUES (?,?) ON CONFLICT DO UPDATE SET setting = excluded.setting`, region,
		string(text)); err != nil {
		return err
	}
	p.skies.mu.Lock()
	p.skies.regions[region] = w
	p.skies.mu.Unlock()
	return c.NoContent(http.StatusNoContent)
}

// withFaults applies a region's faults to a request of the protocol.
func (p *Platform) withFaults(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		rest, inside := strings.CutPrefix(c.Request().URL.Path, "/regions/")
		region, _, _ := strings.Cut(rest, "/")
		w := p.skies.of(region)
		if !inside || w == (faults{}) {
			return next(c)
		}
		if w.SlowMs > 0 {
			timer := time.NewTimer(msDuration(w.SlowMs))
			defer timer.Stop()
			select {
			case <-timer.C:
			case <-c.Request().Context().Done():
				return c.Request().Context().Err()
			}
		}
		switch luck := rand.Float64(); {
		case luck < w.Throttled:
			c.Response().Header().Set("Retry-After", "1")
			return refuse(http.StatusTooManyRequests, "simulated fault of %s: retry in a second", region)
		case luck < w.Throttled+w.FailBefore:
			return refuse(http.StatusInternalServerError, "simulated fault of %s: failed without effect", region)
		case luck < w.Throttled+w.FailBefore+w.FailAfter && c.Request().Method != http.MethodGet:
			own := c.Response()
			c.SetResponse(httptest.NewRecorder())
			err := next(c)
			c.SetResponse(own)
			if err != nil {
				return err
			}
			return refuse(http.StatusInternalServerError, "simulated fault of %s: failed after taking effect", region)
		}
		return next(c)
	}
}

// changed stores a resource's former state, for delayed visibility.
func (k *faultStore) changed(sc scope, address string, before *api.Resource) {
	if k.of(sc.region).LateMs == 0 {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	list := append(k.recent[sc], change{k.now(), address, before})
	k.recent[sc] = list[max(0, len(list)-keptChanges):]
}

// seen returns the resources of a scope as they can be seen now.
func (k *faultStore) seen(sc scope, resources []api.Resource) []api.Resource {
	late := msDuration(k.of(sc.region).LateMs)
	if late == 0 {
		return resources
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	hidden := map[string]*api.Resource{}
	for i := len(k.recent[sc]) - 1; i >= 0; i-- { // the oldest invisible change determines the visible state
		if c := k.recent[sc][i]; k.now().Sub(c.at) < late {
			hidden[c.address] = c.before
		}
	}
	var out []api.Resource
	for _, r := range resources {
		before, changed := hidden[r.Address]
		delete(hidden, r.Address)
		switch {
		case !changed:
			out = append(out, r)
		case before != nil:
			out = append(out, *before)
		}
	}
	for _, before := range hidden {
		if before != nil { // deleted, which is not visible yet
			out = append(out, *before)
		}
	}
	slices.SortFunc(out, func(a, b api.Resource) int { return strings.Compare(a.Address, b.Address) })
	return out
}
