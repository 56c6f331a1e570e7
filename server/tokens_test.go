package server

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"rudmar/engine"
	"rudmar/engine/people"
	"rudmar/server/api"
)

// asks sends a request as a user: a username with a password, or a token.
type asks struct {
	*testing.T
	server *Server
}

func (a asks) as(who, method, path, body string) (int, []byte) {
	a.Helper()
	r := httptest.NewRequestWithContext(a.Context(), method, path, strings.NewReader(body))
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if username, password, ok := strings.Cut(who, ":"); ok {
		r.SetBasicAuth(username, password)
	} else if who != "" {
		r.Header.Set("Authorization", "Bearer "+who)
	}
	w := httptest.NewRecorder()
	a.server.ServeHTTP(w, r)
	return w.Code, w.Body.Bytes()
}

// make creates a token, and returns its text and number.
func (a asks) make(who, wish string) (string, int64) {
	a.Helper()
	code, body := a.as(who, http.MethodPost, "/api/account/tokens", wish)
	var made api.CreatedToken
	if err := json.Unmarshal(body, &made); err != nil || code != http.StatusCreated {
		a.Fatalf("%s: %d %s", wish, code, body)
	}
	return made.Text, made.Token.Id
}

const password = "orchard-at-dawn"

// tokenStand has two services with a plan each, and two users; later advances the clock.
func tokenStand(t *testing.T) (all asks, later func(time.Duration)) {
	t.Helper()
	var passed atomic.Int64 // concurrent code reads the clock, too
	now := func() time.Time {
		return time.Date(2026, 11, 3, 6, 30, 0, 0, time.UTC).Add(time.Duration(passed.Load()))
	}
	s, db := stand(t, engine.Options{Now: now, ObserveEvery: time.Hour})
	for _, w := range []people.NewUser{{Username: "wren", Role: "administrator", Password: password},
		{Username: "linden", Role: "reader", Password: password}} {
		if err := s.engine.People.Add(t.Context(), w, ""); err != nil {
			t.Fatal(err)
		}
	}
	for _, text := range []string{
		`INSERT INTO repositories (name, made_at) VALUES ('brambleford', 1), ('canal', 1)`,
		`INSERT INTO services (name, repository, dir, made_at) VALUES ('frostline', 'brambleford', '.', 1), ('watering', 'canal', '.', 1)`,
		`INSERT INTO plans (id, service, stage, target, version, digest, body, person, made_at) VALUES
			(1, 'frostline', 'trial', 'local/north', 1, 'd', '{"base":{"service":"frostline","stage":"trial","target":"local/north"}}', '', 1),
			(2, 'watering', 'trial', 'local/north', 1, 'd', '{"base":{"service":"watering","stage":"trial","target":"local/north"}}', '', 1)`,
		`INSERT INTO deployments (id, plan, service, stage, target, version, state, person, started_at) VALUES
			(1, 1, 'frostline', 'trial', 'local/north', 1, 'succeeded', '', 1), (2, 2, 'watering', 'trial', 'local/north', 1, 'succeeded', '', 1)`,
		`INSERT INTO versions (service, number, hash, branch, author, message, committed_at, built_at, content, manifests)
			VALUES ('frostline', 1, 'h', 'main', '', '', 1, 1, 'c', '{}')`,
		`INSERT INTO deliveries (service, version, stage, state, since, turn) VALUES ('frostline', 1, 'trial', 'settled', 1, 1)`,
	} {
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatal(text, err)
		}
	}
	return asks{t, s}, func(d time.Duration) { passed.Add(int64(d)) }
}

// A request about an unknown service, stage or function is an error that names it, for each operation of the API.
func TestMissingObjects(t *testing.T) {
	a, _ := tokenStand(t)
	description, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		t.Fatal(err)
	}
	about := func(method, path, name string) {
		t.Helper()
		status, text := a.as("wren:"+password, method, path, "")
		if status != http.StatusNotFound || !strings.Contains(string(text), name) {
			t.Errorf("%s %s: %d %s", method, path, status, text)
		}
	}
	for path, item := range description.Paths.Map() {
		for method := range item.Operations() {
			if strings.HasPrefix(path, "/services/{service}") {
				about(method, "/api"+regexp.MustCompile(`{[^}]+}`).ReplaceAllString(strings.Replace(path, "{service}", "nosuch", 1), "1"), "nosuch")
			}
		}
	}
	for _, path := range []string{"stages/moon/logs", "stages/moon/secrets", "stages/moon/calendar", "drift?stage=moon", "outputs?stage=moon"} {
		about("GET", "/api/services/frostline/"+path, "moon")
	}
	for _, path := range []string{"stages/trial/logs?target=local/north&function=nobody", "stages/trial/logs/stream?target=local/north&function=nobody"} {
		about("GET", "/api/services/frostline/"+path, "nobody")
	}
}

// A token for one service can neither read nor change another.
func TestTokenScopes(t *testing.T) {
	a, _ := tokenStand(t)
	text, _ := a.make("wren:"+password, `{"name": "nightly", "permissions": ["deploy"], "scopes": ["frostline/trial"]}`)
	for _, tt := range []struct {
		method, path, body string
		want               int
	}{
		{"GET", "/api/session", "", 200},
		{"GET", "/api/docs", "", 200},
		{"GET", "/api/services/frostline/deployments", "", 200},
		{"GET", "/api/services/watering/deployments", "", 403},
		{"GET", "/api/services/watering/stage-line", "", 403},
		{"GET", "/api/services/watering/stages/trial/logs/stream?target=local/north", "", 403},
		{"GET", "/api/services/watering/stages/trial/secrets", "", 403},
		{"GET", "/api/services/frostline/stages/live/secrets", "", 403},
		{"GET", "/api/services/frostline/stages/trial~linden/logs/stream?target=local/north", "", 404},
		{"GET", "/api/plans/1/text", "", 200},
		{"GET", "/api/plans/2", "", 403},
		{"GET", "/api/plans/1/compare/2", "", 403},
		{"GET", "/api/plans/2/compare/1", "", 403},
		{"GET", "/api/deployments/2", "", 403},
		{"GET", "/api/plans/99", "", 404},
		{"POST", "/api/deployments/2/cancel", "", 403},
		{"POST", "/api/repositories", `{"name": "another"}`, 403},
		{"PUT", "/api/services/frostline/stages/trial/secrets/sms_key", `{"value": "x"}`, 403},
		{"POST", "/api/account/tokens", `{"name": "another", "permissions": [], "scopes": []}`, 403},
		{"POST", "/api/services/watering/plans", `{"stage": "trial"}`, 403},
		{"POST", "/api/services/frostline/deliveries/1/stages/live/rollback", `{}`, 403},
	} {
		if code, body := a.as(text, tt.method, tt.path, tt.body); code != tt.want {
			t.Errorf("%s %s: %d, want %d: %s", tt.method, tt.path, code, tt.want, body)
		}
	}
	for path, want := range map[string]string{"/api/services": "frostline", "/api/repositories": "brambleford"} {
		var list []struct{ Name string }
		_, body := a.as(text, "GET", path, "")
		if err := json.Unmarshal(body, &list); err != nil || len(list) != 1 || list[0].Name != want {
			t.Errorf("%s shows %s", path, body)
		}
	}
	if _, body := a.as("wren:"+password, "GET", "/api/services/frostline/journal?text=plans", ""); !strings.Contains(
		string(body), `"person":"wren"`) {
		t.Errorf("what was refused is in the journal: %s", body)
	}
}

func TestInvalidTokens(t *testing.T) {
	a, _ := tokenStand(t)
	for wish, want := range map[string]int{
		`{"name": "", "permissions": [], "scopes": []}`:                             400,
		`{"name": "<b>", "permissions": [], "scopes": []}`:                          422,
		`{"name": "n", "permissions": ["fly"], "scopes": []}`:                       422,
		`{"name": "n", "permissions": [], "scopes": ["nowhere"]}`:                   422,
		`{"name": "n", "permissions": [], "scopes": ["frostline/trial/more"]}`:      422,
		`{"name": "n", "permissions": [], "scopes": [], "days": 366}`:               400,
		`{"name": "n", "permissions": ["write"], "scopes": ["frostline"]}`:          403, // a reader
		`{"name": "n", "permissions": ["view"], "scopes": ["frostline", "../etc"]}`: 422,
	} {
		if code, body := a.as("linden:"+password, "POST", "/api/account/tokens", wish); code != want {
			t.Errorf("%s: %d, want %d: %s", wish, code, want, body)
		}
	}
	text, id := a.make("linden:"+password, `{"name": "n", "permissions": [], "scopes": []}`)
	if code, body := a.as("linden:"+password, "POST", "/api/account/tokens", `{"name": "n", "permissions": [], "scopes": []}`); code != 409 {
		t.Errorf("a name twice: %d %s", code, body)
	}
	for _, tt := range []struct {
		who  string
		want int
	}{{text, 200}, {"linden:" + text, 200}, {"wren:" + text, 401}, {text + "0", 401}, {"rudmar_", 401}} {
		if code, body := a.as(tt.who, "GET", "/api/session", ""); code != tt.want {
			t.Errorf("as %s: %d, want %d: %s", tt.who, code, tt.want, body)
		}
	}
	if code, body := a.as("", "POST", "/api/session", `{"username": "linden", "password": "`+text+`"}`); code != 403 {
		t.Errorf("a token signs in to the page: %d %s", code, body)
	}
	one := "/api/account/tokens/" + strconv.FormatInt(id, 10)
	if code, _ := a.as("wren:"+password, "DELETE", one, ""); code != 404 {
		t.Errorf("somebody else's token was ended: %d", code)
	}
	other, _ := a.make("linden:"+password, `{"name": "other", "permissions": [], "scopes": []}`)
	if code, _ := a.as(other, "DELETE", one, ""); code != 403 {
		t.Errorf("a token revoked another: %d", code)
	}
	if code, _ := a.as(text, "DELETE", one, ""); code != 204 {
		t.Errorf("a token did not end itself: %d", code)
	}
	if code, _ := a.as(text, "GET", "/api/session", ""); code != 401 {
		t.Errorf("a token that was ended is good: %d", code)
	}
}

// What its maker loses, a token loses; it runs out; closed people have none.
func TestTokenExpiry(t *testing.T) {
	a, later := tokenStand(t)
	text, _ := a.make("wren:"+password, `{"name": "short", "permissions": ["write"], "scopes": [], "days": 2}`)
	long, _ := a.make("wren:"+password, `{"name": "long", "permissions": ["write"], "scopes": [], "days": 90}`)
	if code, body := a.as(text, "POST", "/api/repositories", `{"name": "orchard"}`); code != 201 {
		t.Fatalf("%d %s", code, body)
	}
	_, body := a.as("wren:"+password, "GET", "/api/services/frostline/journal", "")
	if !strings.Contains(string(body), `"token":"short"`) {
		t.Errorf("the journal does not tell the token: %s", body)
	}
	_, body = a.as("wren:"+password, "GET", "/api/account/tokens", "")
	if !strings.Contains(string(body), `"usedFrom":"192.0.2.1"`) || strings.Contains(string(body), text) {
		t.Errorf("the list of tokens: %s", body)
	}
	later(48*time.Hour - time.Minute)
	if code, _ := a.as(text, "GET", "/api/session", ""); code != 200 {
		t.Errorf("it ended early: %d", code)
	}
	later(time.Minute)
	if code, _ := a.as(text, "GET", "/api/session", ""); code != 401 {
		t.Errorf("it did not run out: %d", code)
	}
	again, _ := a.make("wren:"+password, `{"name": "short", "permissions": ["write"], "scopes": []}`) // its name is free again
	role := people.NewUser{Username: "wren", Role: "reader", Password: password}
	if err := a.server.engine.People.Add(t.Context(), role, ""); err != nil {
		t.Fatal(err)
	}
	if code, _ := a.as(long, "POST", "/api/repositories", `{"name": "canal2"}`); code != 403 {
		t.Errorf("it may more than its maker: %d", code)
	}
	for _, closed := range []bool{true, false} { // after reopening, they need new ones
		p, err := a.server.engine.People.Person(t.Context(), "wren")
		if err != nil {
			t.Fatal(err)
		}
		p.Closed = closed
		if err := a.server.engine.Store.PutPerson(t.Context(), p, "", "closed or opened"); err != nil {
			t.Fatal(err)
		}
		for _, one := range []string{long, again} {
			if code, _ := a.as(one, "GET", "/api/session", ""); code != 401 {
				t.Errorf("closed %v: %d", closed, code)
			}
		}
	}
}

// Wrong tokens are slowed like wrong passwords.
func TestGuessingTokensIsThrottled(t *testing.T) {
	a, _ := tokenStand(t)
	last := 0
	for range 30 {
		last, _ = a.as("rudmar_guess", "GET", "/api/session", "")
	}
	if last != http.StatusTooManyRequests {
		t.Errorf("the thirtieth wrong token: %d", last)
	}
}
