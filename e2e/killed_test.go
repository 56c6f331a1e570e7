package e2e

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "modernc.org/sqlite" // the stored state is checked
)

// serverKills is how often Rudmar is killed, with its platform.
var serverKills = flag.Int("server-kills", 4, "how often Rudmar is killed")

// TestKilledAnywhere kills Rudmar and its platform at random moments of pushes, builds, deployments and cases.
// Accepted pushes are built once and delivered, actual and recorded state are equal, without manual
// intervention.
func TestKilledAnywhere(t *testing.T) {
	r := demo(t)
	data := r.data
	dir := r.clone("wren")
	random := rand.New(rand.NewPCG(11, uint64(*serverKills)))
	var taken []string // commits that git accepted
	for round := range *serverKills {
		file := filepath.Join(dir, "frostline/functions/intake/intake.py")
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, fmt.Appendf(text, "\n# round %d\n", round), 0o600); err != nil {
			t.Fatal(err)
		}
		git(t, dir, "remote", "set-url", "origin",
			strings.Replace(r.address, "http://", "http://wren:orchard-at-dawn@", 1)+"/git/brambleford.git")
		pushMeanwhile(t, dir, fmt.Sprint("Round ", round))
		alive := time.NewTimer(time.Duration(20+random.IntN(900)) * time.Millisecond)
		<-alive.C // when it dies is the point of the test
		r.kill()
		r = start(t, data, r.routes)
		head, err := run(t, filepath.Join(data, "repositories", "brambleford.git"), "git", "rev-parse", "refs/heads/main")
		if err != nil {
			t.Fatal(head)
		}
		own, err := run(t, dir, "git", "rev-parse", "HEAD")
		if err != nil {
			t.Fatal(own)
		}
		if head == own {
			taken = append(taken, strings.TrimSpace(head))
		}
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(data, "rudmar.db")+"?mode=ro&_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	number := func(query string, args ...any) (n int) {
		t.Helper()
		if err := db.QueryRowContext(context.Background(), query, args...).Scan(&n); err != nil {
			t.Fatal(query, err)
		}
		return n
	}
	if len(taken) == 0 {
		t.Log("no push was taken before a kill")
		return
	}
	until(t, "all is built and has settled", func() bool {
		return number(`SELECT count(*) FROM builds WHERE state = 'queued'`) == 0 &&
			number(`SELECT count(*) FROM builds WHERE hash = ?`, taken[len(taken)-1]) == 1 &&
			number(`SELECT count(*) FROM deliveries WHERE stage = 'trial' AND version = (SELECT max(number) FROM versions) AND state = 'settled'`) == 1 &&
			number(`SELECT count(*) FROM deployments WHERE state = 'running'`) == 0
	})
	for _, hash := range taken {
		if n := number(`SELECT count(*) FROM builds WHERE hash = ? AND state = 'succeeded' AND person = 'wren'`, hash); n != 1 {
			t.Errorf("the push of %s was built %d times", hash, n)
		}
		if n := number(`SELECT count(*) FROM builds WHERE hash = ?`, hash); n != 1 {
			t.Errorf("the push of %s has %d builds", hash, n)
		}
	}
	if n := number(`SELECT count(*) FROM versions v WHERE NOT EXISTS (SELECT 1 FROM deliveries d WHERE d.service = v.service AND d.version = v.number)`); n != 0 {
		t.Errorf("%d versions have no delivery", n)
	}
	if n := number(`SELECT count(*) FROM deliveries WHERE state IN ('planning', 'deploying', 'testing')`); n != 0 {
		t.Errorf("%d deliveries move though all has settled", n)
	}
	newest := number(`SELECT max(number) FROM versions WHERE service = 'frostline'`)
	if next := r.plan("trial", 0); len(next.Plan.Steps) != 0 || next.Plan.Base.Version != newest {
		t.Errorf("the next plan for version %d has %d steps", next.Plan.Base.Version, len(next.Plan.Steps))
	}
	t.Logf("%d kills: %d pushes were taken, %d versions, %d steps were sent again, %d cases ran again",
		*serverKills, len(taken), newest,
		number(`SELECT coalesce(sum(attempts - 1), 0) FROM deployment_steps WHERE attempts > 1`),
		number(`SELECT count(*) FROM case_runs WHERE again = 1`))
}
