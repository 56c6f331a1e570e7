package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"rudmar/server/api"
)

// crashPoints is at how many places of deployments something is killed.
var (
	crashPoints  = flag.Int("crash-points", 300, "at how many places of deployments Rudmar or its platform is killed")
	crashWeather = flag.Bool("crash-weather", false, "the platform is slow, throttles, fails and shows changes late meanwhile")
)

// The ways to die around a change: Rudmar before the platform hears of it, before Rudmar hears the outcome of
// it, and just after; the platform before and after it.
const (
	rudmarBefore = iota
	rudmarBetween
	rudmarAfter
	platformBefore
	platformAfter
	waysToDie
)

// killsOfAVersion is the number of kills during one version's deployment.
const killsOfAVersion = 60

// crashing has a Rudmar, a platform and a proxy between them, which kills one or the other at each change, in
// turn.
type crashing struct {
	*testing.T
	data, platformData string
	listen, platformAt string
	proxy              *httptest.Server
	token              string
	mu                 sync.Mutex
	rudmar, platform   *exec.Cmd
	log                told
	points, changes    int
	most               int // kills until it is left to progress
	armed              bool
	keys               map[string]map[string]bool // deployment and address → idempotency keys
}

func (c *crashing) start(cmd **exec.Cmd, args ...string) {
	made := exec.Command(build(c.T), args...)
	made.Stderr = &c.log
	if err := made.Start(); err != nil {
		c.Error(err)
	}
	*cmd = made
}

func (c *crashing) startRudmar() {
	c.start(&c.rudmar, "serve", "--data", c.data, "--listen", c.listen, "--platform", c.proxy.URL, "--platform-token-file",
		c.token, "--observe-every", "500ms")
}

func (c *crashing) startPlatform() {
	c.start(&c.platform, "platform", "--data", c.platformData, "--platform-listen", c.platformAt, "--routes-listen",
		"127.0.0.2:0", "--platform-token-file", c.token)
}

// kill kills a process at once, and starts it again; the lock is held.
func (c *crashing) kill(cmd **exec.Cmd, again func()) {
	old := *cmd
	_ = old.Process.Kill()
	_ = old.Wait()
	again()
	c.points++
}

// between forwards a request, and kills a process around it.
func (c *crashing) between(pass http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		change := strings.Contains(r.URL.Path, "/resources/") && (r.Method == http.MethodPut || r.Method == http.MethodDelete)
		if !change {
			pass.ServeHTTP(w, r)
			return
		}
		key := r.Header.Get("Idempotency-Key")
		c.mu.Lock()
		step := key[:strings.LastIndex(key, "-")] + " " + r.URL.Path
		if c.keys[step] == nil {
			c.keys[step] = map[string]bool{}
		}
		c.keys[step][key] = true
		c.changes++
		way := -1
		if c.armed && c.points < min(*crashPoints, c.most) && c.changes%2 == 0 { // every other one passes
			way = c.points % waysToDie
		}
		defer c.mu.Unlock() // one at a time: the killed process is reported
		if way == rudmarBefore || way == platformBefore {
			c.die(way)
			hangUp(w)
			return
		}
		answer := httptest.NewRecorder()
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		pass.ServeHTTP(answer, r)
		if way == rudmarBetween || way == platformAfter {
			c.die(way)
			hangUp(w)
			return
		}
		for name, values := range answer.Header() {
			w.Header()[name] = values
		}
		w.WriteHeader(answer.Code)
		_, _ = w.Write(answer.Body.Bytes())
		if way == rudmarAfter {
			if f, ok := w.(http.Flusher); ok {
				f.Flush()
			}
			// From at once to after the outcome of it was written down.
			time.Sleep(time.Duration(c.points%13) * time.Millisecond)
			c.die(way)
		}
	}
}

func (c *crashing) die(way int) {
	if way == platformBefore || way == platformAfter {
		c.kill(&c.platform, c.startPlatform)
		return
	}
	c.kill(&c.rudmar, c.startRudmar)
}

func hangUp(w http.ResponseWriter) {
	if connection, _, err := http.NewResponseController(w).Hijack(); err == nil {
		connection.Close()
	}
}

// shapes are two forms of a service; changes between them create, change, rename, replace and delete resources.
func shape(round int) map[string]string {
	files := map[string]string{"rudmar.yaml": "rudmar: 1\nservice: frostline\nowner: cold-nights\nstages:\n  - {stage: trial, target: local/north, enter: {when: push}}\n"}
	add := func(name, extra, body string) {
		files[name+"/function.yaml"] = fmt.Sprintf("function: %s\nhandler: main:run\ntriggers: {ask: {route: GET /%s, open_to: anyone}}\npermissions: [{allow: [read], resource: tables/%s}]\n%s",
			name, name, name, extra)
		files[name+"/main.py"] = fmt.Sprintf("# round %d\ndef run(call): return %q\n", round, body)
	}
	add("stays", fmt.Sprintf("memory: %d MiB\n", 64+16*(round%8)), "stays")
	files["stays/cases/works.yaml"] = "case: it works\nsend: {route: GET /stays}\nexpect: [body == \"stays\"]\n"
	if round%2 == 0 {
		add("plum", "", "plum")
		add("goes", "", "goes")
	} else {
		was := ""
		if round > 0 {
			was = "renamed_from: plum\n"
		}
		add("damson", was, "damson")
		add("comes", "", "comes")
	}
	return files
}

// newCrashing starts a Rudmar and a platform with a proxy between them, and returns a working copy of an empty
// repository.
func newCrashing(t *testing.T, between func(c *crashing, pass http.Handler) http.HandlerFunc) (c *crashing, r *rig, dir string) {
	t.Helper()
	c = &crashing{T: t, data: filepath.Join(t.TempDir(), "data"), platformData: t.TempDir(), listen: freeAddress(t),
		platformAt: freeAddress(t), token: tokenFile(t, "between-two"), keys: map[string]map[string]bool{}}
	to, err := url.Parse("http://" + c.platformAt)
	if err != nil {
		t.Fatal(err)
	}
	pass := httputil.NewSingleHostReverseProxy(to)
	pass.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) { hangUp(w) }
	c.proxy = httptest.NewServer(between(c, pass))
	t.Cleanup(c.proxy.Close)
	password := exec.Command(build(t), "user", "create", "wren", "--role", "administrator", "--data", c.data)
	password.Env = append(os.Environ(), "RUDMAR_PASSWORD=orchard-at-dawn")
	if out, err := password.CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	c.startPlatform()
	c.startRudmar()
	t.Cleanup(func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, cmd := range []*exec.Cmd{c.rudmar, c.platform} {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		}
	})
	r = &rig{T: t, address: "http://" + c.listen, data: c.data, log: &c.log}
	until(t, "it answers", func() bool {
		status, _ := answers(r, "GET", "/healthz", nil, nil)
		return status == 200
	})
	r.ask("wren", "POST", "/repositories", api.RepositoryName{Name: "brambleford"}, nil)
	dir = filepath.Join(t.TempDir(), "work")
	git(t, t.TempDir(), "init", "--quiet", "--initial-branch=main", dir)
	git(t, dir, "remote", "add", "origin", strings.Replace(r.address, "http://", "http://wren:orchard-at-dawn@", 1)+"/git/brambleford.git")
	return c, r, dir
}

// TestCrashMatrix kills Rudmar and its platform around the changes of deployments, and continues: each step is
// executed once, recorded and actual state are equal, and nothing is doubled.
func TestCrashMatrix(t *testing.T) {
	t.Parallel()
	c, r, dir := newCrashing(t, (*crashing).between)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(c.data, "rudmar.db")+"?mode=ro&_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	number := func(query string, args ...any) (n int) {
		if err := db.QueryRowContext(context.Background(), query, args...).Scan(&n); err != nil {
			return -1
		}
		return n
	}
	for round := 0; c.killed() < *crashPoints; round++ {
		c.arm(false)
		git(t, dir, "rm", "-rqf", "--ignore-unmatch", ".")
		put(t, dir, shape(round))
		git(t, dir, "add", "--all")
		git(t, dir, "commit", "--quiet", "-m", fmt.Sprint("Round ", round))
		if *crashWeather {
			c.weather(round)
		}
		c.arm(true)
		before := c.killed()
		c.mu.Lock()
		c.most = before + killsOfAVersion
		c.mu.Unlock()
		// It can be killed while it reports the outcome.
		if out, _ := run(t, dir, "git", "push", "origin", "HEAD"); strings.Contains(out, "rejected") {
			t.Fatal(out)
		}
		version := round + 1
		limit := time.Now().Add(4 * time.Minute)
		for number(`SELECT count(*) FROM deliveries WHERE version = ? AND state = 'settled'`, version) != 1 {
			if time.Now().After(limit) {
				c.stuck(db)
			}
			time.Sleep(30 * time.Millisecond) // interval of checks of a condition
		}
		c.arm(false)
		if *crashWeather {
			c.weather(-1) // no faults, to check the outcome
		}
		until(t, "Rudmar listens", func() bool {
			status, _ := answers(r, "GET", "/healthz", nil, nil)
			return status == 200
		})
		if n := number(`SELECT count(*) FROM deployments WHERE version = ? AND state <> 'succeeded'`, version); n != 0 {
			t.Errorf("version %d: %d deployments are not done", version, n)
		}
		if n := number(`SELECT count(*) FROM journal WHERE text LIKE 'version ' || ? || ' is settled%'`, version); n != 1 {
			t.Errorf("version %d settled %d times, says the journal", version, n)
		}
		if n := number(`SELECT count(*) FROM case_runs WHERE version = ?`, version); n != 1 {
			t.Errorf("version %d: %d runs of one case", version, n)
		}
		if n := number(`SELECT count(*) FROM builds WHERE version = ? AND state = 'succeeded'`, version); n != 1 {
			t.Errorf("version %d was built %d times", version, n)
		}
		stage := "trial"
		var kept api.SavedPlan
		r.ask("wren", "POST", "/services/frostline/plans", api.PlanRequest{Stage: stage, Version: &version}, &kept)
		if len(kept.Plan.Steps) != 0 || len(kept.Plan.Blockers) != 0 {
			t.Fatalf("version %d, after %d kills: the next plan has %d steps: %+v", version, c.killed()-before, len(kept.Plan.Steps),
				kept.Plan.Steps)
		}
		var actual struct{ Resources []struct{ Address string } }
		status, text := answers(&rig{T: t, address: "http://" + c.platformAt}, "GET", "/regions/north/scopes/frostline/trial", nil,
			map[string]string{"Authorization": "Bearer between-two"})
		if err := json.Unmarshal(text, &actual); err != nil || status != 200 {
			t.Fatalf("%d %v", status, err)
		}
		if n := number(`SELECT count(*) FROM records`); n != len(actual.Resources) {
			t.Errorf("version %d: %d resources are recorded, and %d live", version, n, len(actual.Resources))
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for step, keys := range c.keys {
		if len(keys) != 1 {
			t.Errorf("%s was sent with %d keys", step, len(keys))
		}
	}
	t.Logf("%d kills around %d changes", c.points, c.changes)
}

func (c *crashing) killed() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.points
}

func (c *crashing) arm(armed bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.armed = armed
}

// answers requests a path that may not exist, and returns 0 if it does not.
func answers(r *rig, method, path string, body io.Reader, header map[string]string) (int, []byte) {
	q, err := http.NewRequestWithContext(r.Context(), method, r.address+path, body)
	if err != nil {
		return 0, nil
	}
	for name, value := range header {
		q.Header.Set(name, value)
	}
	client := http.Client{Timeout: 5 * time.Second}
	response, err := client.Do(q)
	if err != nil {
		return 0, nil
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		return 0, nil
	}
	return response.StatusCode, text
}

// faults sets the platform's faults in a round; none for a negative one.
func (c *crashing) weather(round int) {
	c.Helper()
	w := map[string]float64{}
	if round >= 0 {
		dice := rand.New(rand.NewPCG(uint64(round), 9))
		w = map[string]float64{"slow_ms": float64(dice.IntN(10)), "throttled": dice.Float64() * 0.05,
			"fail_before": dice.Float64() * 0.05, "fail_after": dice.Float64() * 0.05, "late_ms": float64(dice.IntN(300)),
			"take_ms": float64(dice.IntN(2) * dice.IntN(60))}
	}
	body, err := json.Marshal(w)
	if err != nil {
		c.Fatal(err)
	}
	until(c.T, "the weather is set", func() bool {
		status, _ := answers(&rig{T: c.T, address: "http://" + c.platformAt}, http.MethodPut, "/hand/north/faults",
			bytes.NewReader(body), map[string]string{"Authorization": "Bearer between-two"})
		return status > 0 && status < 300
	})
}

// stuck fails the test with the known progress.
func (c *crashing) stuck(db *sql.DB) {
	c.Helper()
	said := ""
	for _, query := range []string{`SELECT version || ' ' || state || ' ' || why FROM deliveries`,
		`SELECT id || ' ' || version || ' ' || state || ' ' || why FROM deployments`,
		`SELECT deployment || ' ' || address || ' ' || state || ' ' || error FROM deployment_steps WHERE state <> 'succeeded'`,
		`SELECT id || ' ' || hash || ' ' || state || ' ' || why FROM builds`} {
		rows, err := db.QueryContext(c.Context(), query)
		if err != nil {
			said += err.Error() + "\n"
			continue
		}
		for rows.Next() {
			line := ""
			if err := rows.Scan(&line); err == nil {
				said += line + "\n"
			}
		}
		if err := rows.Err(); err != nil {
			said += err.Error() + "\n"
		}
		rows.Close()
	}
	log := c.log.String()
	c.Fatalf("after %d kills it does not get on:\n%s\n%s", c.killed(), said, log[max(0, len(log)-3000):])
}
