package local

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// originService is the number of characters of a service in the label of an origin; originHash of the hash.
const (
	originService = 20
	originHash    = 10
)

// originDomain is the domain of origins, which always names the caller's own machine (RFC 6761).
const originDomain = ".localhost"

// label returns the host label of a stage's routes: each stage has an origin of its own, so browsers keep its cookies
// and storage apart from those of other stages.
func (s scope) label() string {
	sum := sha256.Sum256([]byte(s.String()))
	service := strings.TrimRight(s.service[:min(originService, len(s.service))], "-")
	return service + "-" + hex.EncodeToString(sum[:])[:originHash]
}

// origin returns the origin of a stage's routes, such as http://frostline-0123456789.localhost:7072.
func (p *Platform) origin(sc scope) string {
	return "http://" + sc.label() + originDomain + p.origins.port
}

// portOf returns the port of an address with its colon; "" for none.
func portOf(address string) string {
	if u, err := url.Parse(address); err == nil && u.Port() != "" {
		return ":" + u.Port()
	}
	return ""
}

// origins caches the scopes of labels. Unknown labels cause a reading at most once in originsEvery.
type origins struct {
	port string // of all origins, with its colon

	mu   sync.Mutex
	of   map[string]scope
	read time.Time
}

const originsEvery = time.Second

// scopeAt returns the scope whose routes have an origin at a host.
func (p *Platform) scopeAt(ctx context.Context, host string) (scope, bool, error) {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	label, ok := strings.CutSuffix(strings.ToLower(strings.TrimSuffix(host, ".")), originDomain)
	if !ok {
		return scope{}, false, nil
	}
	p.origins.mu.Lock()
	defer p.origins.mu.Unlock()
	if sc, known := p.origins.of[label]; known {
		return sc, true, nil
	}
	if time.Since(p.origins.read) < originsEvery {
		return scope{}, false, refuse(http.StatusNotFound, "no stage has routes at the host %s", host)
	}
	p.origins.read = time.Now()
	rows, err := p.store.db.QueryContext(ctx, `SELECT DISTINCT region, service, stage FROM resources`)
	if err != nil {
		return scope{}, false, err
	}
	defer rows.Close()
	p.origins.of = map[string]scope{}
	for rows.Next() {
		var sc scope
		if err := rows.Scan(&sc.region, &sc.service, &sc.stage); err != nil {
			return scope{}, false, err
		}
		p.origins.of[sc.label()] = sc
	}
	sc, known := p.origins.of[label]
	if err := rows.Err(); err != nil {
		return sc, false, err
	}
	if !known {
		return sc, false, refuse(http.StatusNotFound, "no stage has routes at the host %s", host)
	}
	return sc, true, nil
}

// Origins serves routes by their stage's host name alone: for a listener on the machine's loopback address, whose
// other host names belong to Rudmar's page.
func (p *Platform) Origins() http.Handler {
	routes := p.Routes()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, ok, err := p.scopeAt(r.Context(), r.Host)
		if err == nil && !ok {
			err = refuse(http.StatusMisdirectedRequest, "routes are served here by the host name of their stage alone")
		}
		if err != nil {
			writeProblem(w, p.asRefusal(r, err))
			return
		}
		routes.ServeHTTP(w, r)
	})
}
