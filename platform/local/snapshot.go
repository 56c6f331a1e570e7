package local

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"sync"

	"rudmar/core/resource"
	"rudmar/platform/api"
)

// fingerprints caches those of unchanged scopes, so another read compares one number.
type fingerprints struct {
	mu sync.Mutex
	of map[scope]fingerprint
}

type fingerprint struct {
	changes int64 // number of changes of the scope by then
	text    string
}

func (f *fingerprints) get(sc scope) (fingerprint, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	v, ok := f.of[sc]
	return v, ok
}

func (f *fingerprints) set(sc scope, v fingerprint) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.of == nil || len(f.of) > 10_000 {
		f.of = map[scope]fingerprint{}
	}
	f.of[sc] = v
}

func (f *fingerprints) forget() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.of = nil
}

// changes counts how often something of a scope was changed.
func (s *store) changes(ctx context.Context, sc scope) (int64, error) {
	var n int64
	err := s.db.QueryRowContext(ctx, `SELECT n FROM changes WHERE region = ? AND service = ? AND stage = ?`, sc.region,
		sc.service, sc.stage).Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return n, err
}

// unchanged returns the cached fingerprint of an unchanged scope; "" if the scope must be read.
func (p *Platform) unchanged(ctx context.Context, sc scope) (string, error) {
	known, ok := p.fingerprints.get(sc)
	if !ok || p.skies.of(sc.region).LateMs > 0 { // delayed visibility changes the state without a request
		return "", nil
	}
	now, err := p.store.changes(ctx, sc)
	if err != nil || now != known.changes {
		return "", err
	}
	return known.text, nil
}

func (p *Platform) snapshot(ctx context.Context, sc scope) (api.Snapshot, error) {
	late := p.skies.of(sc.region).LateMs > 0
	changes, err := p.store.changes(ctx, sc) // before the rows: a concurrent change is read again
	if err != nil {
		return api.Snapshot{}, err
	}
	rows, err := p.store.resources(ctx, p.store.db, sc, "")
	if err != nil {
		return api.Snapshot{}, err
	}
	out := api.Snapshot{Resources: make([]api.Resource, 0, len(rows))}
	for _, r := range rows {
		out.Resources = append(out.Resources, p.shown(sc, r))
	}
	out.Resources = p.skies.seen(sc, out.Resources)
	sum := sha256.New()
	for _, r := range out.Resources {
		fmt.Fprintln(sum, r.Address, r.Tag)
		if r.Kind == resource.Revision && r.Attributes["artifact"] == "" {
			fmt.Fprintln(sum, "without its archive")
		}
	}
	out.Fingerprint = hex.EncodeToString(sum.Sum(nil))[:32]
	if !late && p.skies.of(sc.region).LateMs == 0 {
		p.fingerprints.set(sc, fingerprint{changes, out.Fingerprint})
	}
	return out, nil
}
