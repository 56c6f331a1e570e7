package local

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"rudmar/core/access"
	"rudmar/core/resource"
	"rudmar/core/route"
)

// directory caches the data that invocations look up, by scope, until something changes there: otherwise an
// invocation would spend most of its time reading it.
type directory struct {
	store *store

	mu      sync.Mutex
	changes int // version of the cache; data read before a change is not cached
	scopes  map[scope]*listing
}

// listing is the cached content of a scope. It never changes.
type listing struct {
	rows          map[string]row // by address
	routes        []route.Route  // that are enabled
	takers        []string       // the addresses of the routes
	subscriptions []subscription
	grants        map[string][]access.Statement // by function

	mu        sync.Mutex
	revisions map[[2]string]revision // by function and ID, as requested so far
}

func newDirectory(s *store) *directory {
	return &directory{store: s, scopes: map[scope]*listing{}}
}

// forget drops the cache of a changed scope.
func (d *directory) forget(sc scope) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.changes++
	delete(d.scopes, sc)
}

// of returns the content of a scope.
func (d *directory) of(ctx context.Context, sc scope) (*listing, error) {
	d.mu.Lock()
	known, before := d.scopes[sc], d.changes
	d.mu.Unlock()
	if known != nil {
		return known, nil
	}
	rows, err := d.store.resources(ctx, d.store.db, sc, "")
	if err != nil {
		return nil, err
	}
	l := &listing{rows: make(map[string]row, len(rows)), grants: map[string][]access.Statement{},
		revisions: map[[2]string]revision{}}
	for _, r := range rows {
		l.add(sc, r)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.changes == before {
		d.scopes[sc] = l
	}
	return l, nil
}

func (l *listing) add(sc scope, r row) {
	l.rows[r.address] = r
	switch r.kind {
	case resource.Route:
		parsed, err := route.Parse(fmt.Sprint(r.attributes["method"], " ", r.attributes["path"]))
		if err == nil && r.attributes["enabled"] != false {
			l.routes, l.takers = append(l.routes, parsed), append(l.takers, r.address)
		}
	case resource.Subscription:
		if s, ok := readSubscription(sc, r); ok {
			l.subscriptions = append(l.subscriptions, s)
		}
	case resource.Grant:
		s := access.Statement{Resource: fmt.Sprint(r.attributes["resource"])}
		verbs, _ := r.attributes["verbs"].([]any)
		for _, v := range verbs {
			s.Verbs = append(s.Verbs, fmt.Sprint(v))
		}
		function := functionOf(r.address)
		l.grants[function] = append(l.grants[function], s)
	}
}

// subscribersOf lists the functions that consume a queue.
func (l *listing) subscribersOf(queue string) []string {
	out := []string{}
	for _, s := range l.subscriptions {
		if s.kind == "queue" && s.source == queue {
			out = append(out, s.at.function)
		}
	}
	return out
}

// revision returns a revision of a function; false if there is none.
func (d *directory) revision(ctx context.Context, l *listing, at member, id string) (revision, bool, error) {
	key := [2]string{at.function, id}
	l.mu.Lock()
	r, ok := l.revisions[key]
	l.mu.Unlock()
	if ok {
		return r, true, nil
	}
	r, ok, err := d.store.revision(ctx, d.store.db, at.scope, at.function, id)
	if ok && err == nil {
		l.mu.Lock()
		l.revisions[key] = r
		l.mu.Unlock()
	}
	return r, ok, err
}

// functionOf returns the function that an address is about.
func functionOf(address string) string {
	_, rest, _ := strings.Cut(address, "/")
	function, _, _ := strings.Cut(rest, "/")
	return function
}
