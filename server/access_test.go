package server

import (
	"bufio"
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"rudmar/core/rights"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/server/api"
)

var writeAccess = flag.Bool("write-access", false, "write the table of operations in docs/security.md")

// Every operation has a row, and every role has its result: with a right, the request gets past the guard; without,
// it is rejected; in another service, it is rejected as well.
func TestAccessOfEveryOperation(t *testing.T) {
	a, _ := tokenStand(t)
	description, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		t.Fatal(err)
	}
	for _, role := range rights.Roles() {
		for name, places := range map[string][]string{"": nil, "-here": {"frostline"}, "-elsewhere": {"watering"}} {
			w := people.NewUser{Username: role + name, Role: role, Places: places, Password: password}
			if err := a.server.engine.People.Add(t.Context(), w, ""); err != nil {
				t.Fatal(err)
			}
		}
	}
	table := operationAccess()
	var rows []string
	for path, item := range description.Paths.Map() {
		for method, operation := range item.Operations() {
			row, ok := table[operation.OperationID]
			if !ok {
				t.Errorf("%s %s (%s) has no row in operationAccess", method, path, operation.OperationID)
				continue
			}
			rows = append(rows, fmt.Sprintf("| `%s %s` | %s | %s |", method, path, rightsOf(row.rights), row.scope))
			delete(table, operation.OperationID)
			if strings.HasSuffix(path, "/stream") || path == "/events" {
				method = http.MethodHead
			}
			at := "/api" + regexp.MustCompile(`\{[^}]*\}`).ReplaceAllString(strings.NewReplacer("{service}", "frostline", "{stage}", "trial",
				"{repository}", "brambleford", "{version}", "99", "{other}", "1", "{id}", "1", "{username}", "USER").Replace(path), "99")
			if operation.OperationID == "signOut" {
				continue // it needs a session
			}
			if code, body := a.as("", method, at, ""); (code == 401) == (row.scope == nobody) {
				t.Errorf("without signing in: %s %s: %d %s", method, at, code, body)
			}
			for _, role := range rights.Roles() {
				can := row.scope == themselves || row.scope == nobody || row.scope == listed
				for _, right := range row.rights {
					can = can || slices.Contains(rights.Of(role), right)
				}
				can = can || row.scope == inBody // decided by what the request names
				for name, want := range map[string]bool{"": can, "-here": can && row.scope != wholeServer,
					"-elsewhere": row.scope == themselves || row.scope == nobody || row.scope == listed ||
						row.scope == inBody && !strings.Contains(path, "{service}")} {
					code, body := a.as(role+name+":"+password, method, strings.Replace(at, "USER", role+name, 1), "")
					if got := code != 403; got != want && !(want && strings.Contains(string(body), "may confirm")) {
						t.Errorf("%s%s: %s %s: %d %s", role, name, method, at, code, body)
					}
				}
			}
		}
	}
	for name := range table {
		t.Errorf("operationAccess has %s, which is not an operation", name)
	}
	slices.Sort(rows)
	const begin, end = "<!-- operations -->\n", "<!-- end of operations -->\n"
	text, err := os.ReadFile("../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	before, rest, _ := strings.Cut(string(text), begin)
	_, after, _ := strings.Cut(rest, end)
	want := before + begin + "| Operation | Right | Scope |\n|---|---|---|\n" + strings.Join(rows, "\n") + "\n" + end + after
	if *writeAccess {
		if err := os.WriteFile("../docs/security.md", []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if want != string(text) {
		t.Error("the table of operations in docs/security.md is not current; run this test with -write-access")
	}
}

// A stream of events, a list and the journal show only what somebody can view, also after their rights have changed.
func TestStreamsAndListsAreNarrowed(t *testing.T) {
	a, _ := tokenStand(t)
	ctx, e := t.Context(), a.server.engine
	fatal := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	fatal(e.People.Add(ctx, people.NewUser{Username: "sorrel", Role: rights.Reader, Places: []string{"watering"}, Password: password}, ""))
	web := httptest.NewServer(a.server)
	defer web.Close()
	follow := func() (next func() string, end func()) {
		t.Helper()
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, web.URL+"/api/events", http.NoBody)
		fatal(err)
		r.SetBasicAuth("sorrel", password)
		answer, err := http.DefaultClient.Do(r)
		fatal(err)
		lines := bufio.NewScanner(answer.Body)
		return func() string {
			for lines.Scan() {
				if strings.HasPrefix(lines.Text(), "data: {\"body\"") {
					return lines.Text()
				}
				if strings.HasPrefix(lines.Text(), "event: hello") {
					return "hello"
				}
			}
			return "ended"
		}, func() { _ = answer.Body.Close() }
	}
	next, end := follow()
	if got := next(); got != "hello" {
		t.Fatal(got)
	}
	fatal(e.People.SetSecret(ctx, "frostline", "trial", "key", "x", "wren"))
	fatal(e.People.SetSecret(ctx, "watering", "trial", "key", "x", "wren"))
	if got := next(); !strings.Contains(got, "watering") {
		t.Errorf("the stream shows %s", got)
	}
	fatal(e.People.Revoke(ctx, store.Right{Kind: store.UserSubject, Subject: "sorrel",
		Grant: rights.Grant{Right: rights.Reader, In: rights.Scope{Service: "watering"}}}))
	if got := next(); got != "ended" {
		t.Errorf("after the right was revoked the stream shows %s", got)
	}
	end()
	for _, path := range []string{"/api/services", "/api/repositories", "/api/copies"} {
		if code, body := a.as("sorrel:"+password, "GET", path, ""); code != 200 || strings.TrimSpace(string(body)) != "[]" {
			t.Errorf("without rights, %s: %d %s", path, code, body)
		}
	}
	fatal(e.People.Grant(ctx, store.Right{Kind: store.UserSubject, Subject: "sorrel",
		Grant: rights.Grant{Right: rights.Reader, In: rights.Scope{Repository: "brambleford"}}}))
	if code, body := a.as("sorrel:"+password, "GET", "/api/services/frostline/journal", ""); code != 200 ||
		!strings.Contains(string(body), "secret set") || strings.Contains(string(body), "right granted") {
		t.Errorf("the journal: %d %s", code, body)
	}
	if err := e.People.Grant(ctx, store.Right{Kind: store.GroupSubject, Subject: "nobody", Grant: rights.Grant{Right: rights.Reader}}); err == nil {
		t.Error("a group of nobody has a right")
	}
}

func rightsOf(list []rights.Permission) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.ReplaceAll(rights.Join(list), ", ", " or ")
}
