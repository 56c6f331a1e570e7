// Package demo builds the demo, a growers' cooperative: its users, a repository with a history,
// and the deliveries of its versions, with the same pushes and requests that a user would make.
package demo

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

//go:embed all:steps all:canal all:boxes
var steps embed.FS

// Repository and Service of the demo.
const (
	Repository = "brambleford"
	Service    = "frostline"
)

// Password of every username of the demo.
const Password = "orchard-at-dawn"

// Options configures the demo.
type Options struct {
	Server string // its address
	Engine *engine.Engine
	// Change changes a resource outside Rudmar.
	Change func(ctx context.Context, scope, address string, attributes map[string]any) error
	Dir    string // the folder for its files while it is built
}

// Welcome returns the address and the usernames.
func Welcome(address string) string {
	return fmt.Sprintf(`
Brambleford Growers is running at %[1]s

  sign in as   wren    author: writes and pushes     password %[2]s
               linden  approver (growers-council)    password %[2]s
               teasel  approver (growers-council)    password %[2]s
  clone        git clone http://wren:%[2]s@%[3]s/git/%[4]s.git

Press Ctrl+C to stop. The data is kept for the next start.
`, address, Password, strings.TrimPrefix(address, "http://"), Repository)
}

// declaresSecret is the step whose manifests first name a secret; the next one uses it.
const declaresSecret = "06-growers"

type commit struct {
	step, author, message string
	daysAgo               float64
	approve               []string // after trial settled, for preview
	actual                bool     // and on to live, approved by both
}

// history is the history, in order.
func history() []commit {
	return []commit{
		{"01-first", "wren", "Add frost warnings, stations, readings and a night report", 19, []string{"linden"}, true},
		{"02-memory", "sorrel", "Give the night report more time and memory", 15, nil, false},
		{"03-wording", "wren", "Log warnings in capitals, and sweep more often", 11, []string{"teasel"}, true},
		{"04-survey", "sorrel", "Correct the elevation of the gate to 134 m", 8, nil, false},
		{"05-sweep", "wren", "Sweep every two minutes, except in trial", 5, []string{"linden"}, false},
		{"06-growers", "sorrel", "Notify the growers themselves", 2, []string{"linden"}, false},
		{"07-history", "wren", "Add a station's history, and send alerts as text messages", 0.2, nil, false},
	}
}

// Build builds the demo on a server that has nothing in it yet.
func Build(ctx context.Context, o Options) error {
	council := []string{"growers-council"}
	for _, w := range []people.NewUser{
		{Username: "wren", Role: rights.Author}, {Username: "sorrel", Role: rights.Author},
		{Username: "linden", Role: rights.Approver, Groups: council},
		{Username: "teasel", Role: rights.Approver, Groups: council},
	} {
		w.Password = Password
		if err := o.Engine.People.Add(ctx, w, ""); err != nil {
			return err
		}
	}
	b := &builder{Options: o, repository: Repository, service: Service}
	if err := b.begin(ctx); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	for i, c := range history() {
		if err := b.take(ctx, i+1, c); err != nil {
			return fmt.Errorf("%s: %w", c.step, err)
		}
		if c.step == declaresSecret {
			for _, stage := range []string{"trial", "preview"} { // live has none yet: its plan shows that
				if err := b.ask(ctx, "linden", http.MethodPut, "/services/"+Service+"/stages/"+stage+"/secrets/sms_key",
					map[string]string{"value": "made-up-key-of-" + stage}, nil); err != nil {
					return err
				}
			}
		}
	}
	if err := b.traffic(ctx); err != nil {
		return err
	}
	if err := (&builder{Options: o, repository: canalRepository, service: canalService}).canal(ctx); err != nil {
		return err
	}
	return (&builder{Options: o, repository: boxesRepository, service: boxesService}).boxes(ctx)
}

type builder struct {
	Options
	repository, service string
	dir                 string // of its working copy
}

// begin creates the repository, and a working copy of it.
func (b *builder) begin(ctx context.Context) error {
	if err := b.ask(ctx, "wren", http.MethodPost, "/repositories",
		map[string]string{"name": b.repository}, nil); err != nil {
		return err
	}
	var err error
	if b.dir, err = os.MkdirTemp(b.Dir, "demo-"); err != nil {
		return err
	}
	return b.git(ctx, nil, "init", "--quiet", "--initial-branch=main")
}

// take commits and pushes one step, and delivers its version as far as the history says.
func (b *builder) take(ctx context.Context, version int, c commit) error {
	if err := b.push(ctx, "steps/"+c.step, c); err != nil {
		return err
	}
	if err := b.settled(ctx, version, "trial"); err != nil {
		return err
	}
	for _, person := range c.approve {
		if err := b.act(ctx, person, version, "preview", "approve", "looks good to me"); err != nil {
			return err
		}
		if err := b.settled(ctx, version, "preview"); err != nil {
			return err
		}
	}
	if !c.actual {
		return nil
	}
	for _, step := range []struct{ person, action, comment string }{{c.author, "request", ""},
		{"linden", "approve", "for the cold nights"}, {"teasel", "approve", "agreed in the council"}} {
		if err := b.act(ctx, step.person, version, "live", step.action, step.comment); err != nil {
			return err
		}
	}
	return b.settled(ctx, version, "live")
}

// push commits and pushes a folder.
func (b *builder) push(ctx context.Context, folder string, c commit) error {
	if err := b.commit(ctx, folder, c); err != nil {
		return err
	}
	return b.pushAll(ctx, c.author)
}

// pushAll pushes all commits.
func (b *builder) pushAll(ctx context.Context, person string) error {
	address := strings.Replace(b.Server, "http://", "http://"+person+":"+Password+"@", 1) + "/git/" + b.repository + ".git"
	return b.git(ctx, nil, "push", "--quiet", address, "main")
}

// commit commits a folder.
func (b *builder) commit(ctx context.Context, folder string, c commit) error {
	files, err := fs.Sub(steps, folder)
	if err != nil {
		return err
	}
	if err := b.write(files); err != nil {
		return err
	}
	at := time.Now().Add(-time.Duration(c.daysAgo * 24 * float64(time.Hour))).Format(time.RFC3339)
	env := []string{"GIT_AUTHOR_NAME=" + c.author, "GIT_AUTHOR_EMAIL=" + c.author + "@brambleford.invalid",
		"GIT_AUTHOR_DATE=" + at,
		"GIT_COMMITTER_NAME=" + c.author, "GIT_COMMITTER_EMAIL=" + c.author + "@brambleford.invalid",
		"GIT_COMMITTER_DATE=" + at}
	if err := b.git(ctx, nil, "add", "--all"); err != nil {
		return err
	}
	return b.git(ctx, env, "commit", "--quiet", "-m", c.message)
}

// write copies files into the working folder. Unlike os.CopyFS it overwrites.
func (b *builder) write(files fs.FS) error {
	return fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		switch {
		case strings.HasSuffix(name, ".go.txt"), strings.HasSuffix(name, ".mod.txt"): // otherwise they would be compiled into this program
			name = strings.TrimSuffix(name, ".txt")
		case strings.HasSuffix(name, ".ics"): // ten days, starting yesterday
			day := func(days int) string { return time.Now().AddDate(0, 0, days).Format("20060102") }
			content = []byte(strings.NewReplacer("FROM", day(-1), "TO", day(9)).Replace(string(content)))
		}
		to := filepath.Join(b.dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		return os.WriteFile(to, content, 0o644)
	})
}

func (b *builder) git(ctx context.Context, env []string, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = b.dir
	cmd.Env = append(append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_TERMINAL_PROMPT=0"), env...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, bytes.TrimSpace(out))
	}
	return nil
}

// act changes a delivery in a stage, as a user who has seen its impact.
func (b *builder) act(ctx context.Context, person string, version int, stage, action, comment string) error {
	path := fmt.Sprintf("/services/%s/deliveries/%d/stages/%s/", b.service, version, stage)
	var means struct{ Digest string }
	if err := b.ask(ctx, person, http.MethodGet, path+"impact", nil, &means); err != nil {
		return err
	}
	return b.ask(ctx, person, http.MethodPost, path+action,
		map[string]string{"comment": comment, "impactDigest": means.Digest, "confirm": stage}, nil)
}

// settled waits until a version is settled in a stage.
func (b *builder) settled(ctx context.Context, version int, stage string) error {
	return b.reaches(ctx, version, stage, delivery.Settled, func() error { return nil })
}

// reaches waits until a version is in a state in a stage; meanwhile is done again and
// again until then.
func (b *builder) reaches(ctx context.Context, version int, stage string, want delivery.State,
	meanwhile func() error) error {
	wake, stop := b.Engine.Store.Listen()
	defer stop()
	limit := time.After(arrival)
	for {
		d, err := b.Engine.Store.Delivery(ctx, b.service, version, stage)
		if err == nil && d.State == want {
			return nil
		}
		if err == nil && (d.State == delivery.Failed || d.State == delivery.Rejected) {
			return b.failed(ctx, d)
		}
		if err := meanwhile(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-limit:
			return fmt.Errorf("version %d is still %s in %s: %s", version, d.State, stage, d.Reason)
		case <-wake:
		case <-time.After(meanwhileEvery):
		}
	}
}

// arrival is the time limit for a state: a slow machine needs minutes for a version.
const arrival = 5 * time.Minute

// failed returns why a version did not arrive, with what its failed cases received.
func (b *builder) failed(ctx context.Context, d store.Delivery) error {
	out := fmt.Errorf("version %d is %s in %s: %s", d.Version, d.State, d.Stage, d.Reason)
	runs, err := b.Engine.Store.CaseRuns(ctx, b.service, d.Version, d.Stage)
	for _, r := range runs {
		if !r.Passed {
			out = fmt.Errorf("%w; %s of %s: %s", out, r.Name, r.Function, r.Body)
		}
	}
	return errors.Join(out, err)
}

// meanwhileEvery is how often something is done while a state is waited for.
const meanwhileEvery = 50 * time.Millisecond

func (b *builder) ask(ctx context.Context, person, method, path string, body, out any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	if body == nil {
		text = nil
	}
	r, err := http.NewRequestWithContext(ctx, method, b.Server+"/api"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	r.SetBasicAuth(person, Password)
	r.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	if err != nil {
		return err
	}
	if response.StatusCode >= 400 {
		return fmt.Errorf("%s %s: %s", method, path, answer)
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(answer, out)
}
