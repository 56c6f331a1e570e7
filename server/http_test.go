package server

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"rudmar/docs"
	"rudmar/engine"
	"rudmar/engine/people"
	"rudmar/server/api"
)

// Responses follow HTTP's semantics (RFC 9110).
func TestHTTPSemantics(t *testing.T) {
	s, db := stand(t, engine.Options{})
	if err := s.engine.People.Add(t.Context(), people.NewUser{Username: "wren", Role: "administrator", Password: "orchard-at-dawn"},
		""); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{
		`INSERT INTO repositories (name, made_at) VALUES ('brambleford', 1)`,
		`INSERT INTO services (name, repository, dir, made_at) VALUES ('frostline', 'brambleford', '.', 1), ('trial', 'brambleford', 't', 1)`,
		`INSERT INTO versions (service, number, hash, branch, author, message, committed_at, built_at, content, manifests)
			VALUES ('frostline', 1, 'abc', 'main', 'wren', '', 1, 1, 'c', '{}')`,
		`INSERT INTO plans (id, service, stage, target, version, digest, body, person, made_at)
			VALUES (1, 'frostline', 'trial', 'local/north', 1, 'd', '{}', '', 1)`,
	} {
		if _, err := db.Exec(text); err != nil {
			t.Fatal(text, err)
		}
	}
	web := httptest.NewServer(s)
	defer web.Close()
	ask := func(method, path, body string, headers ...string) (*http.Response, string) {
		r, err := http.NewRequestWithContext(t.Context(), method, web.URL+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.SetBasicAuth("wren", "orchard-at-dawn")
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		if r.Header.Get("Authorization") == "none" {
			r.Header.Del("Authorization")
		}
		answer, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text := new(strings.Builder)
		if _, err := bufio.NewReader(answer.Body).WriteTo(text); err != nil {
			t.Fatal(err)
		}
		return answer, text.String()
	}
	versions := "/api/services/frostline/versions"
	for _, c := range []struct {
		name, method, path, body string
		headers                  []string
		status                   int
		header, want             string
		problem                  string
	}{
		{"another method", "PATCH", versions, "", nil, 405, "Allow", "GET, HEAD", "method-not-allowed"},
		{"methods of an address", "PUT", "/api/session", "{}", nil, 405, "Allow", "GET, HEAD, POST, DELETE", "method-not-allowed"},
		{"no such address", "GET", "/api/nothing", "", nil, 404, "", "", "not-found"},
		{"no JSON", "POST", "/api/services/frostline/plans", "x", []string{"Content-Type", "text/plain"}, 415, "", "", "unsupported-media"},
		{"no form at all", "POST", "/api/services/frostline/plans", "{}", nil, 415, "", "", "unsupported-media"},
		{"another form", "POST", "/api/services/frostline/plans", "<a/>", []string{"Content-Type", "application/xml"}, 415,
			"", "", "unsupported-media"},
		{"a form with more said", "POST", "/api/services/frostline/plans", "{}",
			[]string{"Content-Type", "application/json; charset=utf-8"}, 400, "", "", "invalid-request"},
		{"no answer of that form", "GET", versions, "", []string{"Accept", "text/csv"}, 406, "", "", "unsupported-media"},
		{"any answer", "GET", versions, "", []string{"Accept", "text/csv, */*;q=0.1"}, 200, "", "", ""},
		{"no number", "GET", versions + "?before=x", "", nil, 400, "", "", "invalid-request"},
		{"nobody", "GET", versions, "", []string{"Authorization", "none"}, 401, "WWW-Authenticate",
			`Basic realm="Rudmar", charset="UTF-8"`, "not-signed-in"},
		{"nobody in a browser", "GET", versions, "", []string{"Authorization", "none", "Sec-Fetch-Mode", "cors"}, 401,
			"WWW-Authenticate", `Session realm="Rudmar"`, "not-signed-in"},
		{"HEAD", "HEAD", versions, "", nil, 200, "Content-Type", "application/json", ""},
		{"HEAD of a stream", "HEAD", "/api/events", "", nil, 200, "Content-Type", "text/event-stream", ""},
		{"a page", "GET", "/s/frostline/board", "", []string{"Authorization", "none"}, 200, "Content-Type",
			"text/html; charset=utf-8", ""},
		{"the API's page", "GET", "/api", "", nil, 200, "Content-Type", "text/html; charset=utf-8", ""},
		{"no page", "GET", "/s", "", []string{"Accept", "text/html,*/*"}, 404, "Content-Type", "text/html; charset=utf-8", ""},
		{"no file", "GET", "/assets/none.js", "", nil, 404, "Content-Type", "text/plain; charset=utf-8", ""},
		{"the description", "GET", "/api/openapi.yaml", "", []string{"Authorization", "none"}, 200, "Content-Type",
			"application/yaml", ""},
		{"the welcome", "GET", "/api/welcome", "", []string{"Authorization", "none"}, 200, "", "", ""},
		{"ready", "GET", "/readyz", "", []string{"Authorization", "none"}, 200, "", "", ""},
	} {
		answer, text := ask(c.method, c.path, c.body, c.headers...)
		if answer.StatusCode != c.status || c.header != "" && answer.Header.Get(c.header) != c.want {
			t.Errorf("%s: %d, %s is %q: %s", c.name, answer.StatusCode, c.header, answer.Header.Get(c.header), text)
		}
		var p api.Problem
		if c.problem != "" && (json.Unmarshal([]byte(text), &p) != nil || p.Type != "/docs/problems#"+c.problem ||
			p.Status != c.status || strings.Contains(p.Detail, "code=")) {
			t.Errorf("%s: %s", c.name, text)
		}
		if c.method == "HEAD" && text != "" {
			t.Errorf("HEAD has the body %q", text)
		}
	}

	for body, want := range map[string]string{
		`{"stage": "trial", "stage": "live"}`: `duplicate object member name`,
		`{"stage": "trial"} {}`:               "text after the value, at byte 18",
		`{"stage": "trial",`:                  "invalid JSON at byte 18",
		`{"stage": "trial", "stag": 1}`:       `stag`,
		"{\"stage\": \"\xff\"}":               "invalid UTF-8",
	} {
		if answer, text := ask("POST", "/api/services/frostline/plans", body, "Content-Type", "application/json"); answer.StatusCode != 400 ||
			!strings.Contains(text, want) {
			t.Errorf("%s: %d %s", body, answer.StatusCode, text)
		}
	}
	if answer, text := ask("POST", "/api/services/frostline/plans", "{}", "Content-Type", "application/json; charset=latin1"); answer.StatusCode != 400 ||
		!strings.Contains(text, "send JSON in UTF-8") {
		t.Errorf("another charset: %d %s", answer.StatusCode, text)
	}
	// A browser adds a username and password to requests of other sites' pages.
	for _, header := range [][2]string{{"Origin", "https://elsewhere.example"}, {"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"},
		{"Origin", "null"}} {
		if answer, text := ask("GET", "/api/services", "", header[0], header[1]); answer.StatusCode != 403 {
			t.Errorf("%v: %d %s", header, answer.StatusCode, text)
		}
	}
	if answer, text := ask("GET", "/api/services", "", "Origin", web.URL, "Sec-Fetch-Site", "same-origin"); answer.StatusCode != 200 {
		t.Errorf("from the page itself: %d %s", answer.StatusCode, text)
	}
	// No operation drops a field that it does not know.
	description, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		t.Fatal(err)
	}
	bodies := 0
	for path, item := range description.Paths.Map() {
		for method, operation := range item.Operations() {
			if operation.RequestBody == nil {
				continue
			}
			bodies++
			at := regexp.MustCompile(`\{[^}]*\}`).ReplaceAllString(strings.NewReplacer("{version}", "1", "{id}", "1", "{deliveries}", "1",
				"{action}", "retry", "{message}", "1").Replace(path), "trial")
			answer, text := ask(method, "/api"+at+"?confirm=trial", `{"surplus": 1}`, "Content-Type", "application/json")
			if answer.StatusCode != 400 || !strings.Contains(text, "surplus") {
				t.Errorf("%s %s: %d %s", method, at, answer.StatusCode, text)
			}
		}
	}
	if bodies < 20 {
		t.Errorf("only %d operations with a body", bodies)
	}

	first, _ := ask("GET", versions, "")
	tag := first.Header.Get("ETag")
	if same, text := ask("GET", versions, "", "If-None-Match", `"other", `+tag); tag == "" || same.StatusCode != 304 || text != "" {
		t.Errorf("%q again: %d %q", tag, same.StatusCode, text)
	}
	if other, _ := ask("GET", versions, "", "If-None-Match", `W/"other"`); other.StatusCode != 200 {
		t.Errorf("another tag: %d", other.StatusCode)
	}
	if _, text := ask("GET", "/metrics", "", "Accept", "application/openmetrics-text"); !strings.HasSuffix(text, "# EOF\n") ||
		!strings.Contains(text, `route="/api/services/:service/versions",status="200"`) ||
		!strings.Contains(text, "rudmar_serves 1") || strings.Contains(text, "frostline") {
		t.Errorf("metrics: %s", text)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	r, _ := http.NewRequestWithContext(ctx, "GET", web.URL+"/api/events", nil)
	r.SetBasicAuth("wren", "orchard-at-dawn")
	stream, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	if line, _ := bufio.NewReader(stream.Body).ReadString('\n'); line != "retry: 2000\n" {
		t.Errorf("a stream begins with %q", line)
	}
}

// The description is complete: each operation documents its purpose, its right, and its errors.
func TestDescriptionIsComplete(t *testing.T) {
	description, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		t.Fatal(err)
	}
	if err := description.Validate(t.Context()); err != nil {
		t.Error(err)
	}
	seen := map[string]bool{}
	for path, item := range description.Paths.Map() {
		for method, o := range item.Operations() {
			at := method + " " + path
			if o.OperationID == "" || seen[o.OperationID] || o.Summary == "" {
				t.Errorf("%s: the operation %q has the summary %q", at, o.OperationID, o.Summary)
			}
			seen[o.OperationID] = true
			if o.Responses.Default() == nil {
				t.Errorf("%s says nothing of how it fails", at)
			}
			if open := o.Security != nil && len(*o.Security) == 0; open != (o.OperationID == "signIn" || o.OperationID == "getWelcome") {
				t.Errorf("%s is open to everybody: %v", at, open)
			}
			for _, p := range append(slices.Clone(item.Parameters), o.Parameters...) {
				if p.Value.Schema == nil {
					t.Errorf("%s: %s has no schema", at, p.Value.Name)
				}
			}
		}
	}
	for _, path := range []string{"/events", "/services/{service}/stages/{stage}/logs/stream"} {
		if description.Paths.Value(path) == nil {
			t.Errorf("the stream %s is not described", path)
		}
	}
}

// Every type of problem leads to a heading, and every link between documents to a document.
func TestDocumentLinks(t *testing.T) {
	all, err := readDocuments(docs.Files)
	if err != nil {
		t.Fatal(err)
	}
	anchors := map[string]bool{}
	for name, d := range all {
		anchors["/docs/"+name] = true
		for _, h := range d.Headings {
			anchors["/docs/"+name+"#"+h.Id] = true
		}
		if d.Title == "" {
			t.Errorf("%s has no title", name)
		}
	}
	for status, heading := range problemTypes {
		if !anchors["/docs/problems#"+heading] {
			t.Errorf("%d: there is no heading %s", status, heading)
		}
	}
	if !anchors["/docs/diagnostics#rm1101"] {
		t.Error("a code has no heading of its own")
	}
	for name, d := range all {
		for _, link := range regexp.MustCompile(`href="(/docs/[^"]*)"`).FindAllStringSubmatch(d.html, -1) {
			if !anchors[link[1]] {
				t.Errorf("%s leads to %s, which does not exist", name, link[1])
			}
		}
	}
	made, err := readDocuments(fstest.MapFS{
		"a/README.md": {Data: []byte("# A\n\n[b](../b.md#c) [d](https://d.invalid) <script>x</script>\n")},
		"b.md":        {Data: []byte("# B\n\n## C\n")}})
	if err != nil || !strings.Contains(made["a"].html, `href="/docs/b#c"`) || strings.Contains(made["a"].html, "<script>") {
		t.Errorf("%v: %s", err, made["a"].html)
	}
}

// Lists are paginated, and filtered on request.
func TestPagination(t *testing.T) {
	s, db := stand(t, engine.Options{})
	for _, text := range []string{
		`INSERT INTO repositories (name, made_at) VALUES ('brambleford', 1)`,
		`INSERT INTO services (name, repository, dir, made_at) VALUES ('frostline', 'brambleford', '.', 1)`,
		`INSERT INTO versions (service, number, hash, branch, author, person, message, committed_at, built_at, content, manifests)
			WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 250)
			SELECT 'frostline', i, 'h' || i, 'main', 'wren', 'wren', 'Frost ' || (i % 3), 1, 1, i, '{}' FROM n`,
		`INSERT INTO deliveries (service, version, stage, state, since, turn)
			SELECT service, number, 'trial', CASE WHEN number = 42 THEN 'rejected' ELSE 'settled' END, 1, number FROM versions`,
		`INSERT INTO journal (at, person, service, stage, what, text)
			SELECT 1, CASE WHEN number % 2 THEN 'wren' ELSE 'teasel' END, service, 'trial', 'approved', 'version ' || number FROM versions`,
	} {
		if _, err := db.Exec(text); err != nil {
			t.Fatal(text, err)
		}
	}
	h := &handlers{s}
	var numbers []int
	for before := 0; ; {
		answer, err := h.ListVersions(t.Context(), api.ListVersionsRequestObject{Service: "frostline",
			Params: api.ListVersionsParams{Before: api.Optional(before)}})
		if err != nil {
			t.Fatal(err)
		}
		list := answer.(api.ListVersions200JSONResponse)
		if len(list) == 0 || len(numbers) > 250 {
			break
		}
		for _, v := range list {
			numbers = append(numbers, v.Number)
		}
		before = numbers[len(numbers)-1]
	}
	if len(numbers) != 250 || numbers[0] != 250 || numbers[249] != 1 {
		t.Errorf("%d versions, %v", len(numbers), numbers[:3])
	}
	found, err := h.ListVersions(t.Context(), api.ListVersionsRequestObject{Service: "frostline",
		Params: api.ListVersionsParams{Text: api.Optional("fROST 2")}})
	if list := found.(api.ListVersions200JSONResponse); err != nil || len(list) != 83 {
		t.Errorf("%v: %d of a text", err, len(list))
	}
	refused, err := h.ListDeliveries(t.Context(), api.ListDeliveriesRequestObject{Service: "frostline",
		Params: api.ListDeliveriesParams{State: api.Optional(api.DeliveryStateRejected)}})
	if list := refused.(api.ListDeliveries200JSONResponse); err != nil || len(list) != 1 || list[0].Version != 42 ||
		len(list[0].Stages) != 1 {
		t.Errorf("%v: %+v", err, list)
	}
	journal, err := h.GetJournal(t.Context(), api.GetJournalRequestObject{Service: "frostline",
		Params: api.GetJournalParams{Person: api.Optional("teasel"), Text: api.Optional("version 24"),
			Stage: api.Optional("trial"), Action: api.Optional("approved")}})
	if list := journal.(api.GetJournal200JSONResponse); err != nil || len(list) != 6 || list[0].Person != "teasel" {
		t.Errorf("%v: %+v", err, list)
	}
}
