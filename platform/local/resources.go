package local

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"rudmar/core/resource"
	"rudmar/core/route"
	"rudmar/core/timing"
	"rudmar/platform/api"
	"rudmar/sqlstmt"
)

// keptRevisions is how many revisions of a function stay callable.
const keptRevisions = 10

// refusal is an error with the status that it is reported with.
type refusal struct {
	status int
	title  string
	detail string
	kind   string // the problem's type; "" for about:blank
}

func (r *refusal) Error() string { return r.detail }

// problem returns it in the form of RFC 9457.
func (r *refusal) problem() api.Problem {
	kind := r.kind
	if kind == "" {
		kind = "about:blank"
	}
	return api.Problem{Type: kind, Title: r.title, Status: r.status, Detail: r.detail}
}

func refuse(status int, format string, args ...any) error {
	return &refusal{status: status, title: http.StatusText(status), detail: fmt.Sprintf(format, args...)}
}

// changeRequest is a change of a resource; Remove is for operations, whose requests are stored as JSON.
type changeRequest struct {
	Key         string            `json:"-"`
	Remove      bool              `json:"remove,omitempty"`
	Match       string            `json:"match,omitempty"`
	Attributes  map[string]any    `json:"attributes,omitempty"`
	Secrets     map[string]string `json:"secrets,omitempty"`
	Version     int               `json:"version,omitempty"`
	RenamedFrom string            `json:"was,omitempty"` // of an identity: the function's former name
	Replace     bool              `json:"replace,omitempty"`
	Fence       int64             `json:"fence,omitempty"` // 0 for none
}

// shown adds computed attributes.
func (p *Platform) shown(sc scope, r row) api.Resource {
	r.attributes = maps.Clone(r.attributes) // the requested attributes stay unchanged
	switch r.kind {
	case resource.Identity:
		r.attributes["id"] = sc.String() + "/" + strings.TrimPrefix(r.address, resource.Identity+"/")
	case resource.Route:
		r.attributes["url"] = p.address(sc) + fmt.Sprint(r.attributes["path"])
		r.attributes["origin_url"] = p.origin(sc) + fmt.Sprint(r.attributes["path"])
	case resource.Revision:
		if artifact, _ := r.attributes["artifact"].(string); p.archives.isLost(artifact) {
			r.attributes["artifact"] = "" // so it is written again
		}
	}
	return api.Resource{Address: r.address, Kind: r.kind, Attributes: r.attributes, Tag: r.tag, ChangedAt: &r.changedAt,
		ChangedBy: &r.changedBy}
}

// admissible validates a resource on its own.
func admissible(sc scope, address string, attributes map[string]any) error {
	kind, rest, ok := strings.Cut(address, "/")
	if !ok || rest == "" {
		return refuse(422, "%q is not an address; use kind/function or kind/function/name", address)
	}
	if !slices.Contains(regions(), sc.region) {
		return refuse(404, "unknown region %q (expected %s)", sc.region, strings.Join(regions(), ", "))
	}
	if err := checkAttributes(kind, attributes); err != nil {
		return refuse(422, "%v", err)
	}
	return nil
}

// put creates or updates a resource. The same key returns the same response.
func (p *Platform) put(ctx context.Context, sc scope, address string, w changeRequest) (api.Resource, error) {
	if err := admissible(sc, address, w.Attributes); err != nil {
		return api.Resource{}, err
	}
	kind, rest, _ := strings.Cut(address, "/")
	function, _, _ := strings.Cut(rest, "/")
	if kind == resource.Revision {
		if err := p.prepare(ctx, sc, function, w); err != nil {
			return api.Resource{}, err
		}
	}
	if w.RenamedFrom != "" {
		p.observed.writing.Lock()
		defer p.observed.writing.Unlock()
	}
	var out api.Resource
	var was *api.Resource
	changed := false
	err := p.store.within(ctx, func(tx sqlstmt.Tx) error {
		if done, err := answered(ctx, tx, w.Key, &out); done || err != nil {
			return err
		}
		if err := fenced(ctx, tx, sc, w.Fence); err != nil {
			return err
		}
		if w.RenamedFrom != "" {
			if err := p.rename(ctx, tx, sc, kind, w.RenamedFrom, function); err != nil {
				return err
			}
		}
		before, exists, err := p.store.resource(ctx, tx, sc, address)
		if err != nil {
			return err
		}
		if err := matches(before, exists, w.Match); err != nil {
			return err
		}
		if fixed := fixedChanges(kind, before.attributes, w.Attributes); exists && !w.Replace && len(fixed) > 0 {
			return refuse(422, "%s of %s cannot change in place; it can only be replaced", strings.Join(fixed, ", "), address)
		}
		if err := p.allowed(ctx, tx, sc, kind, function, address, w); err != nil {
			return err
		}
		if !exists {
			if err := withinQuotas(ctx, tx, sc, kind, function); err != nil {
				return err
			}
		}
		r := row{address: address, kind: kind, attributes: w.Attributes, tag: tagOf(w.Attributes),
			changedAt: p.options.Now().UnixMilli(), changedBy: w.Key, version: w.Version}
		attributes, _ := json.Marshal(r.attributes)
		secrets, _ := json.Marshal(w.Secrets)
		if w.Secrets == nil {
			secrets = []byte("{}")
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO resources (region, service, stage, address, kind, attributes, secrets, tag, changed_at, changed_by, version, taken)
			VALUES (?,?,?,?,?,?,?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET attributes = excluded.attributes, secrets = excluded.secrets,
			tag = excluded.tag, changed_at = excluded.changed_at, changed_by = excluded.changed_by,
			version = excluded.version, taken = excluded.taken`,
			sc.region, sc.service, sc.stage, address, kind, string(attributes), p.store.sealed(sc, string(secrets)), r.tag,
			r.changedAt, r.changedBy, r.version, takenBy(kind, r.attributes)); err != nil {
			return err
		}
		if kind == resource.Revision {
			if err := p.freeze(ctx, tx, sc, function, w); err != nil {
				return err
			}
		}
		out = p.shown(sc, r)
		was = nil
		if exists {
			shown := p.shown(sc, before)
			was = &shown
		}
		changed = true
		return remember(ctx, tx, w.Key, out, r.changedAt)
	})
	p.directory.forget(sc)
	if err == nil && changed {
		p.skies.changed(sc, address, was)
	}
	if err == nil && kind == resource.Identity && changed {
		p.observed.called(member{sc, w.RenamedFrom}, member{sc, function})
		if w.RenamedFrom != "" {
			p.pool.retire(sc, w.RenamedFrom, nil)
		}
	}
	if err == nil && kind == resource.Pointer {
		p.pool.retire(sc, function, w.Attributes)
	}
	return out, err
}

// prepare unpacks and compiles a revision's code before its first invocation: code that fails is not a
// revision.
func (p *Platform) prepare(ctx context.Context, sc scope, function string, w changeRequest) error {
	artifact, _ := w.Attributes["artifact"].(string)
	config, there, err := p.store.resource(ctx, p.store.db, sc, resource.Function+"/"+function)
	if err != nil || !there {
		return err // a missing dependency is reported when it is used
	}
	if !p.archives.whole(artifact) {
		return nil
	}
	runtime, _ := config.attributes["runtime"].(string)
	if err := p.pool.ready(artifact, runtime); err != nil {
		return refuse(422, "the code of %s cannot be prepared: %s", function, p.withoutPaths(err.Error()))
	}
	return nil
}

func answered(ctx context.Context, tx sqlstmt.Tx, key string, out any) (bool, error) {
	var body string
	err := tx.QueryRowContext(ctx, `SELECT body FROM answered WHERE key = ?`, key).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err == nil && out != nil {
		err = json.Unmarshal([]byte(body), out)
	}
	return err == nil, err
}

func remember(ctx context.Context, tx sqlstmt.Tx, key string, out any, at int64) error {
	body, err := json.Marshal(out)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO answered (key, body, at) VALUES (?,?,?)`, key, string(body), at)
	return err
}

func matches(before row, exists bool, match string) error {
	switch {
	case match == "":
		return nil
	case !exists:
		return refuse(412, "the resource no longer exists")
	case match != "*" && match != before.tag:
		return refuse(412, "the resource has changed: its tag is %s, not %s", before.tag, match)
	}
	return nil
}

// allowed checks a resource against others.
func (p *Platform) allowed(ctx context.Context, tx sqlstmt.Tx, sc scope, kind, function, address string,
	w changeRequest) error {
	need := func(other string) error {
		if _, ok, err := p.store.resource(ctx, tx, sc, other); err != nil || !ok {
			return errors.Join(err, refuse(409, "%s needs %s, which does not exist", address, other))
		}
		return nil
	}
	switch kind {
	case resource.Grant, resource.Function:
		return need(resource.Identity + "/" + function)
	case resource.Revision:
		return p.allowedRevision(ctx, tx, sc, function, w.Attributes)
	case resource.Pointer:
		shares, _ := w.Attributes["shares"].(map[string]any)
		total := 0.0
		for id, share := range shares {
			if _, ok, err := p.store.revision(ctx, tx, sc, function, id); err != nil || !ok {
				return errors.Join(err, refuse(409, "%s points to the revision %s, which does not exist", address, id))
			}
			f, _ := share.(float64)
			total += f
		}
		if total != 100 {
			return refuse(422, "the shares of %s add up to %v, not 100", address, total)
		}
	case resource.Opening:
		return need(resource.Function + "/" + function)
	case resource.Route:
		return errors.Join(need(resource.Function+"/"+function), p.allowedRoute(ctx, tx, sc, address, w.Attributes))
	case resource.Subscription:
		if s, _ := readSubscription(sc,
			row{address: address, attributes: w.Attributes}); w.Attributes["enabled"] != false &&
			(s.source == "" || !slices.Contains([]string{"objects", "queue", "function"}, s.kind)) {
			return refuse(422, "%s: the source must be objects/NAME, queue/NAME or function/NAME", address)
		}
		return need(resource.Function + "/" + function)
	case resource.Schedule:
		if _, err := scheduleOf(w.Attributes); err != nil {
			return refuse(422, "%s: %v", address, err)
		}
		return need(resource.Function + "/" + function)
	}
	return nil
}

func (p *Platform) allowedRevision(ctx context.Context, tx sqlstmt.Tx, sc scope, function string,
	attributes map[string]any) error {
	config, ok, err := p.store.resource(ctx, tx, sc, resource.Function+"/"+function)
	if err != nil || !ok {
		return errors.Join(err, refuse(409, "revision/%s needs function/%s, which does not exist", function, function))
	}
	artifact, _ := attributes["artifact"].(string)
	now := resource.Configuration(config.attributes)
	if now != attributes["configuration"] {
		return refuse(409, "function/%s does not have the configuration of revision/%s", function, function)
	}
	if resource.RevisionID(artifact, now) != attributes["id"] {
		return refuse(422, "the ID of revision/%s does not match its artifact and configuration", function)
	}
	if !p.archives.whole(artifact) {
		return refuse(409, "the archive %s is missing; upload it first", artifact)
	}
	return nil
}

// freeze stores a revision, and deletes the oldest that no pointer uses.
func (p *Platform) freeze(ctx context.Context, tx sqlstmt.Tx, sc scope, function string, w changeRequest) error {
	config, _, err := p.store.resource(ctx, tx, sc, resource.Function+"/"+function)
	if err != nil {
		return err
	}
	var secrets string
	if err := tx.QueryRowContext(ctx,
		`SELECT secrets FROM resources WHERE region = ? AND service = ? AND stage = ? AND address = ?`,
		sc.region, sc.service, sc.stage, resource.Function+"/"+function).Scan(&secrets); err != nil {
		return err
	}
	text, err := json.Marshal(config.attributes)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx,
		`INSERT INTO revisions (region, service, stage, function, id, artifact, config, secrets, version, made_at)
		VALUES (?,?,?,?,?,?,?,?,?,?) ON CONFLICT DO UPDATE SET made_at = excluded.made_at, secrets = excluded.secrets`,
		sc.region, sc.service, sc.stage, function, w.Attributes["id"], w.Attributes["artifact"], string(text), secrets,
		w.Version, p.options.Now().UnixNano()); err != nil {
		return err
	}
	pointer, _, err := p.store.resource(ctx, tx, sc, resource.Pointer+"/"+function)
	if err != nil {
		return err
	}
	shares, _ := pointer.attributes["shares"].(map[string]any)
	rows, err := tx.QueryContext(ctx,
		`SELECT id FROM revisions WHERE region = ? AND service = ? AND stage = ? AND function = ? ORDER BY made_at DESC LIMIT -1 OFFSET ?`,
		sc.region, sc.service, sc.stage, function, keptRevisions)
	if err != nil {
		return err
	}
	var old []string
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return errors.Join(err, rows.Close())
		}
		if _, pointed := shares[id]; !pointed {
			old = append(old, id)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, id := range old {
		if _, err := tx.ExecContext(ctx,
			`DELETE FROM revisions WHERE region = ? AND service = ? AND stage = ? AND function = ? AND id = ?`,
			sc.region, sc.service, sc.stage, function, id); err != nil {
			return err
		}
	}
	return nil
}

func (p *Platform) allowedRoute(ctx context.Context, tx sqlstmt.Tx, sc scope, address string,
	attributes map[string]any) error {
	parsed, err := route.Parse(fmt.Sprint(attributes["method"], " ", attributes["path"]))
	if err != nil {
		return refuse(422, "%s: %v", address, err)
	}
	if attributes["enabled"] == false {
		return nil
	}
	var other string
	err = tx.QueryRowContext(ctx, `SELECT address FROM resources INDEXED BY resources_taken
		WHERE region = ? AND service = ? AND stage = ? AND taken = ? AND taken <> '' AND address <> ? LIMIT 1`,
		sc.region, sc.service, sc.stage, parsed.Key(), address).Scan(&other)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	request, _ := route.Collide(parsed, parsed)
	return errors.Join(err, refuse(409, "%s and %s both match the request %s", address, other, request))
}

// takenBy returns the key of the requests that a route matches; "" if it matches nothing, or is not a route.
func takenBy(kind string, attributes map[string]any) string {
	if kind != resource.Route || attributes["enabled"] == false {
		return ""
	}
	parsed, err := route.Parse(fmt.Sprint(attributes["method"], " ", attributes["path"]))
	if err != nil {
		return ""
	}
	return parsed.Key()
}

func scheduleOf(attributes map[string]any) (timing.Schedule, error) {
	cron, _ := attributes["cron"].(string)
	zone, _ := attributes["zone"].(string)
	every, _ := attributes["every"].(float64)
	if cron == "" && every <= 0 {
		return timing.Schedule{}, errors.New("a schedule needs cron or every")
	}
	return timing.Read(cron, zone, msDuration(every))
}

// remove deletes a resource.
func (p *Platform) remove(ctx context.Context, sc scope, address string, w changeRequest) error {
	kind, function, _ := strings.Cut(address, "/")
	var was *api.Resource
	err := p.store.within(ctx, func(tx sqlstmt.Tx) error {
		if done, err := answered(ctx, tx, w.Key, nil); done || err != nil {
			return err
		}
		if err := fenced(ctx, tx, sc, w.Fence); err != nil {
			return err
		}
		before, exists, err := p.store.resource(ctx, tx, sc, address)
		if err != nil {
			return err
		}
		if !exists {
			return refuse(404, "%s does not exist", address)
		}
		if err := matches(before, exists, w.Match); err != nil {
			return err
		}
		if kind == resource.Function {
			_, there, err := p.store.resource(ctx, tx, sc, resource.Pointer+"/"+function)
			if err != nil {
				return err
			}
			if there {
				return refuse(409, "%s cannot be deleted while pointer/%s exists", address, function)
			}
		}
		where, args := `DELETE FROM resources WHERE region = ? AND service = ? AND stage = ? AND address = ?`,
			[]any{sc.region, sc.service, sc.stage, address}
		if _, err := tx.ExecContext(ctx, where, args...); err != nil {
			return err
		}
		if kind == resource.Revision {
			if _, err := tx.ExecContext(ctx,
				`DELETE FROM revisions WHERE region = ? AND service = ? AND stage = ? AND function = ?`, sc.region, sc.service,
				sc.stage, function); err != nil {
				return err
			}
		}
		if kind == resource.Logs {
			if _, err := tx.ExecContext(ctx,
				`DELETE FROM log_lines WHERE region = ? AND service = ? AND stage = ? AND function = ?`, sc.region, sc.service,
				sc.stage, function); err != nil {
				return err
			}
		}
		shown := p.shown(sc, before)
		was = &shown
		return remember(ctx, tx, w.Key, struct{}{}, p.options.Now().UnixMilli())
	})
	p.directory.forget(sc)
	if err == nil && was != nil {
		p.skies.changed(sc, address, was)
	}
	if err == nil && kind == resource.Pointer {
		p.pool.retire(sc, function, nil)
	}
	return err
}
