package server

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"rudmar/core/rights"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// The session's cookie. Under TLS its prefix prevents other host names, and pages without TLS, from setting it.
const (
	cookieName     = "rudmar_session"
	hostCookieName = "__Host-" + cookieName
)

// cookieName returns the cookie's name, and whether it is for TLS alone: browsers
// treat this machine's own addresses like TLS.
func (s *Server) cookieName() (name string, secure bool) {
	u, err := url.Parse(s.options.Address)
	if err != nil {
		return cookieName, false
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme == "https" || u.Hostname() == "localhost" || ip != nil && ip.IsLoopback() {
		return hostCookieName, true
	}
	return cookieName, false
}

type (
	signedInKey struct{}
	addressKey  struct{} // the caller's address
)

type signedIn struct {
	person  store.Person
	session store.Session
	token   string
}

func who(ctx context.Context) signedIn {
	s, _ := ctx.Value(signedInKey{}).(signedIn)
	return s
}

// signedIn admits authenticated requests: with a cookie and, for changes, the session's own token in the
// X-CSRF-Token header; or with username and password, or a bearer token (RFC 6750), as the command line does.
// Signing in needs none.
func (s *Server) signedIn(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		in, err := s.identify(r)
		signingIn := r.URL.Path == "/api/session" && r.Method == http.MethodPost
		if _, _, basic := r.BasicAuth(); basic && !s.sameOrigin(r) { // a browser adds them to other sites' requests
			return echo.NewHTTPError(http.StatusForbidden, "a username and password are not accepted from another site's page")
		}
		switch {
		case r.URL.Path == "/api/welcome":
			return next(c)
		case signingIn && !s.sameOrigin(r):
			return badRequest("signing in is only possible on Rudmar's own page")
		case signingIn:
			c.SetRequest(r.WithContext(context.WithValue(r.Context(), addressKey{}, s.engine.People.From(r))))
			return next(c)
		case err != nil:
			return err
		}
		c.SetRequest(r.WithContext(context.WithValue( // for rejected requests as well
			context.WithValue(r.Context(), signedInKey{}, in), addressKey{}, s.engine.People.From(r))))
		if in.token != "" && r.Method != http.MethodGet && r.Method != http.MethodHead {
			if subtle.ConstantTimeCompare([]byte(r.Header.Get("X-CSRF-Token")), []byte(in.session.CSRF)) != 1 {
				return echo.NewHTTPError(http.StatusForbidden,
					"the request did not come from Rudmar's own page; reload the page")
			}
		}
		if t := in.person.Token; t != nil {
			r = c.Request()
			c.SetRequest(r.WithContext(store.Through(r.Context(), t.Name)))
		}
		return next(c)
	}
}

// sameOrigin reports whether, according to the browser, a request comes from this page.
func (s *Server) sameOrigin(r *http.Request) bool {
	site := r.Header.Get("Sec-Fetch-Site")
	if origin := r.Header.Get("Origin"); origin != "" {
		u, err := url.Parse(origin)
		own, ownErr := url.Parse(s.options.Address)
		if err != nil || u.Host != r.Host && (ownErr != nil || u.Host != own.Host) {
			return false
		}
	}
	return site == "" || site == "same-origin" || site == "none"
}

func (s *Server) identify(r *http.Request) (signedIn, error) {
	if text, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		p, err := s.engine.People.ByToken(r.Context(), text, s.engine.People.From(r))
		return signedIn{person: p}, err
	}
	if username, password, ok := r.BasicAuth(); ok {
		p, err := s.engine.People.Enter(r.Context(), username, password, s.engine.People.From(r))
		return signedIn{person: p}, err
	}
	name, _ := s.cookieName()
	cookie, err := r.Cookie(name)
	if err != nil {
		return signedIn{}, errNotSignedIn
	}
	p, session, err := s.engine.People.Session(r.Context(), cookie.Value)
	if err != nil {
		return signedIn{}, errNotSignedIn
	}
	return signedIn{person: p, session: session, token: cookie.Value}, s.engine.Store.UseSession(r.Context(), session)
}

func (h *handlers) sessionOf(ctx context.Context, p store.Person, csrf string) (api.Session, error) {
	newest, err := h.engine.Store.NewestEvent(ctx)
	if err != nil {
		return api.Session{}, err
	}
	out := api.Session{Event: &newest, Username: p.Username, Groups: append([]string{}, p.Groups...), Csrf: csrf,
		Permissions: []string{}, Rights: []api.Right{}}
	for _, g := range p.Rights().Grants {
		out.Rights = append(out.Rights, api.Right{Right: g.Right, Scope: g.In.String()})
		roles := rights.Roles()
		if slices.Index(roles, g.Right) > slices.Index(roles, out.Role) {
			out.Role = g.Right
		}
	}
	if p.Token != nil {
		out.Token = &p.Token.Name
	}
	for _, a := range rights.Permissions() {
		if rights.Anywhere(p.Rights(), a) {
			out.Permissions = append(out.Permissions, string(a))
		}
	}
	return out, nil
}

func fromAddress(ctx context.Context) string {
	address, _ := ctx.Value(addressKey{}).(string)
	return address
}

func (h *handlers) GetSession(ctx context.Context, _ api.GetSessionRequestObject) (api.GetSessionResponseObject,
	error) {
	in := who(ctx)
	out, err := h.sessionOf(ctx, in.person, in.session.CSRF)
	return api.GetSession200JSONResponse(out), err
}

// signedInAnswer sets the session's cookie.
type signedInAnswer struct {
	session api.Session
	cookie  *http.Cookie
}

func (a signedInAnswer) VisitSignInResponse(w http.ResponseWriter) error {
	http.SetCookie(w, a.cookie)
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(a.session)
}

func (a signedInAnswer) VisitSignOutResponse(w http.ResponseWriter) error {
	http.SetCookie(w, a.cookie)
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s *Server) cookie(token string, seconds int) *http.Cookie {
	name, secure := s.cookieName()
	return &http.Cookie{Name: name, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: secure, MaxAge: seconds}
}

func (h *handlers) SignIn(ctx context.Context, r api.SignInRequestObject) (api.SignInResponseObject, error) {
	token, session, err := h.engine.People.SignIn(ctx, strings.TrimSpace(r.Body.Username), r.Body.Password,
		fromAddress(ctx))
	if err != nil {
		return nil, err
	}
	p, err := h.engine.People.Person(ctx, session.Username)
	if err != nil {
		return nil, err
	}
	out, err := h.sessionOf(ctx, p, session.CSRF)
	return signedInAnswer{out, h.cookie(token, int(people.SessionLength.Seconds()))}, err
}

func (h *handlers) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	if err := h.engine.People.SignOut(ctx, who(ctx).token); err != nil {
		return nil, err
	}
	return signedInAnswer{cookie: h.cookie("", -1)}, nil
}

func (h *handlers) GetJournal(ctx context.Context, r api.GetJournalRequestObject) (api.GetJournalResponseObject,
	error) {
	all := may(ctx, rights.Administer, "", "") == nil // entries without a service are for administrators
	list, err := h.engine.Store.Journal(ctx, r.Service, all,
		store.Part{Before: api.OrZero(r.Params.Before), Text: api.OrZero(r.Params.Text), Limit: partSize},
		store.Entry{Person: api.OrZero(r.Params.Person), Stage: api.OrZero(r.Params.Stage),
			What: api.OrZero(r.Params.Action)})
	if err != nil {
		return nil, err
	}
	out := api.GetJournal200JSONResponse{}
	for _, e := range list {
		out = append(out, api.JournalEntry{Id: e.ID, At: e.At.UnixMilli(), Person: e.Person, Stage: e.Stage,
			Action: e.What, Text: e.Text, Token: api.Optional(e.Token)})
	}
	return out, nil
}
