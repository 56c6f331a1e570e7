package local

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"rudmar/core/event"
	"rudmar/core/resource"
	"rudmar/core/route"
	"rudmar/platform"
)

// StickyHeader identifies a caller whose invocations stay with one revision during a traffic shift.
const StickyHeader = "Rudmar-Sticky"

// maxBody is the maximum size of a request to a route, in bytes.
const maxBody = 6 << 20

// bodyTime is the time limit of a request's body.
const bodyTime = 30 * time.Second

// Routes serves the routes of all stages: at the host name of the stage, and at /region/service/stage and the route's
// own path.
func (p *Platform) Routes() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := p.serveRoute(w, r); err != nil {
			writeProblem(w, p.asRefusal(r, err))
		}
	})
}

func writeProblem(w http.ResponseWriter, r *refusal) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(r.status)
	_ = json.NewEncoder(w).Encode(r.problem()) // the client may have disconnected
}

func (p *Platform) serveRoute(w http.ResponseWriter, r *http.Request) error {
	sc, own, err := p.scopeAt(r.Context(), r.Host)
	if err != nil {
		return err
	}
	path := r.URL.EscapedPath()
	if !own {
		pieces := strings.SplitN(strings.TrimPrefix(path, "/"), "/", 4)
		if len(pieces) < 3 {
			return refuse(404, "the address must be /region/service/stage and the route's path")
		}
		sc, path = scope{pieces[0], pieces[1], pieces[2]}, "/"
		if len(pieces) == 4 {
			path += pieces[3]
		}
	}
	there, err := p.directory.of(r.Context(), sc)
	if err != nil {
		return err
	}
	i, params := route.Winner(there.routes, r.Method, path)
	if i < 0 {
		if allowed := route.Allowed(there.routes, path); len(allowed) > 0 {
			w.Header().Set("Allow", strings.Join(allowed, ", "))
			return refuse(405, "no route of %s matches %s %s (expected %s)", sc, r.Method, path, strings.Join(allowed, ", "))
		}
		if len(there.rows) == 0 {
			return refuse(404, "nothing is deployed in %s; the address must be /region/service/stage and the route's path", sc)
		}
		return refuse(404, "no route of %s matches %s %s; Rudmar's page lists the routes under Functions", sc, r.Method, path)
	}
	if r.Method == http.MethodHead && there.routes[i].Method == http.MethodGet {
		r = r.Clone(r.Context())
		r.Method = http.MethodGet // answered like GET, without the body
	}
	rest := strings.TrimPrefix(there.takers[i], resource.Route+"/")
	caller, marked := p.callers.of(sc, r.Header.Get(platform.PurposeHeader))
	if !marked && r.Header.Get(platform.PurposeHeader) != "" {
		return refuse(http.StatusUnauthorized, "the token in %s is not valid here, or has expired", platform.PurposeHeader)
	}
	if err := p.open(r, there, sc, rest); err != nil {
		return err
	}
	// a connection without deadlines has its own
	_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(bodyTime))
	body, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
	if err != nil {
		return refuse(400, "the body could not be read: %v", err)
	}
	if len(body) > maxBody {
		return refuse(413, "a body can have %d MiB", maxBody>>20)
	}
	function, trigger, _ := strings.Cut(rest, "/")
	at := call{at: member{sc, function}, trigger: trigger, sticky: r.Header.Get(StickyHeader),
		event: routeEvent(r, path, params, body), purpose: caller.purpose}
	inv, err := p.invoke(r.Context(), at)
	if err != nil {
		return err
	}
	if marked {
		p.callers.calls.Add(keptCall{sc, inv.Id}, inv)
	}
	a := routeResponse{platform: p, call: at, invocation: inv}
	return a.write(w)
}

// routeEvent returns the event of a request.
func routeEvent(r *http.Request, path string, params map[string]string, body []byte) event.Request {
	headers := r.Header.Clone()
	withoutOwnCookies(headers)
	headers.Del(platform.PurposeHeader)
	request := event.Request{Method: r.Method, Path: path, Params: params, Query: queryOf(r.URL.Query()),
		Headers: flat(headers, "Authorization", strings.ToLower)}
	var parsed any
	switch {
	case len(body) == 0:
	case strings.Contains(r.Header.Get("Content-Type"), "json") && json.Unmarshal(body, &parsed) == nil:
		request.Body = parsed
	case utf8.Valid(body):
		request.Body = string(body)
	default:
		request.Body, request.InBase64 = base64.StdEncoding.EncodeToString(body), true
	}
	return eventOf(time.Now()).Requested(request)
}

// queryOf returns a text for each key, and a list for a repeated one.
func queryOf(values map[string][]string) map[string]any {
	out := make(map[string]any, len(values))
	for k, v := range values {
		if len(v) == 1 {
			out[k] = v[0]
			continue
		}
		list := make([]any, len(v))
		for i := range v {
			list[i] = v[i]
		}
		out[k] = list
	}
	return out
}

// flat returns one text for each name, except for one that is left out.
func flat(values map[string][]string, leave string, named func(string) string) map[string]string {
	out := make(map[string]string, len(values))
	for k, v := range values {
		if k == leave {
			continue
		}
		if named != nil {
			k = named(k)
		}
		out[k] = strings.Join(v, ", ")
	}
	return out
}

// open checks whether the caller can use a trigger.
func (p *Platform) open(r *http.Request, there *listing, sc scope, rest string) error {
	opening, ok := there.rows[resource.Opening+"/"+rest]
	to, _ := opening.attributes["to"].([]any)
	if slices.Contains(to, any("anyone")) {
		return nil
	}
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	groups, known, err := p.callerGroups(r.Context(), sc, token)
	switch {
	case err != nil:
		return err
	case !known:
		return refuse(http.StatusUnauthorized,
			"this route is not open to anyone; send a caller's token as a bearer token (rudmar platform caller NAME creates one)")
	case !ok:
		return refuse(http.StatusForbidden, "no one can call this route yet")
	case slices.Contains(to, any("authenticated")):
		return nil
	}
	for _, g := range groups {
		if slices.Contains(to, any(g)) {
			return nil
		}
	}
	return refuse(http.StatusForbidden, "this route is open to %v; the caller belongs to %v", to, groups)
}

func (p *Platform) callerGroups(ctx context.Context, sc scope, token string) ([]string, bool, error) {
	if caller, ok := p.callers.of(sc, token); ok {
		return caller.groups, true, nil
	}
	rows, err := p.store.db.QueryContext(ctx, `SELECT groups FROM callers WHERE token = ?`, hashed(token))
	if err != nil {
		return nil, false, err
	}
	defer rows.Close()
	if !rows.Next() {
		return nil, false, rows.Err()
	}
	var groups string
	err = rows.Scan(&groups)
	return strings.Fields(groups), err == nil, err
}

// addCaller creates a token for a caller of routes.
func (p *Platform) addCaller(c *echo.Context) error {
	var wish struct {
		Name   string   `json:"name"`
		Groups []string `json:"groups"`
	}
	if err := c.Bind(&wish); err != nil || wish.Name == "" {
		return refuse(http.StatusBadRequest, "a caller needs a name")
	}
	token := "call-" + random(20)
	if _, err := p.store.db.ExecContext(c.Request().Context(),
		`INSERT INTO callers (token, name, groups) VALUES (?,?,?)`, hashed(token), wish.Name,
		strings.Join(wish.Groups, " ")); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]string{"token": token})
}
