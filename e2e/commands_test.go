package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"rudmar/server/api"
)

// commands runs the command line as a user on another machine: env is its environment.
type commands struct {
	*testing.T
	env []string
}

func (c commands) run(args ...string) (string, error) {
	c.Helper()
	env := append([]string{"RUDMAR_YES=true"}, c.env...)
	return run(c.T, ".", "env", append(append(env, build(c.T)), args...)...)
}

// want runs a command, which must succeed and print all of these.
func (c commands) want(args string, says ...string) string {
	c.Helper()
	return c.wantOf(strings.Fields(args), says...)
}

func (c commands) wantOf(args []string, says ...string) string {
	c.Helper()
	out, err := c.run(args...)
	if err != nil {
		c.Errorf("rudmar %s: %v: %s", strings.Join(args, " "), err, out)
	}
	for _, text := range says {
		if !strings.Contains(out, text) {
			c.Errorf("rudmar %s does not say %q: %s", strings.Join(args, " "), text, out)
		}
	}
	return out
}

// atTerminal runs a command at a terminal of its own, answers its question, and returns what it prints.
func (c commands) atTerminal(args, answer string, says ...string) string {
	c.Helper()
	line := build(c.T) + " " + args + "; true"
	cmd := exec.Command("script", "--quiet", "--return", "--command", line, "/dev/null")
	cmd.Env, cmd.Stdin = append(os.Environ(), c.env...), strings.NewReader(answer+"\n")
	out, err := cmd.CombinedOutput()
	for _, text := range append(says, "[y/N]") {
		if err != nil || !strings.Contains(string(out), text) {
			c.Errorf("rudmar %s: %v, and not %q: %s", args, err, text, out)
		}
	}
	return string(out)
}

// refused runs a command, which must fail and say why.
func (c commands) refused(args string, says string) {
	c.Helper()
	out, err := c.run(strings.Fields(args)...)
	if err == nil || !strings.Contains(out, says) {
		c.Errorf("rudmar %s: %v, and not %q: %s", args, err, says, out)
	}
}

// Somebody makes a token on the page You, sees it once, and ends it.
func TestYourTokens(t *testing.T) {
	r := demo(t)
	p := r.open(browse(t), "wren")
	p.arrive("/account")
	p.reads("author everywhere")
	p.fill("input[placeholder='nightly-build']", "nightly-build")
	p.click("input[type=checkbox][value=write]")
	p.press("^Create")
	p.reads("it cannot be shown again")
	text, err := p.sees("the token", "[aria-label='New token'] code").Text()
	p.must("reading the token", err)
	machine := commands{t, []string{"RUDMAR_TOKEN=" + text, "RUDMAR_SERVER=" + r.address}}
	machine.want("status frostline", "trial")
	machine.refused("invoke frostline trial warn", "has view, write")
	p.press("^Done")
	p.arrive("/account")
	p.reads("from 127.0.0.1")
	if there, _, err := p.page.Has("[aria-label='New token']"); there || err != nil {
		t.Error("the token is shown again")
	}
	p.press("^Revoke…")
	p.press("^Revoke$")
	p.reads("No tokens")
	machine.refused("status frostline", "expired token")
}

// Every operation of the page has a command, for a signed-in user and for a machine with a token.
func TestCommandsOfTheDay(t *testing.T) {
	r := demo(t)
	home := t.TempDir()
	wren := commands{t, []string{"XDG_CONFIG_HOME=" + home, "HOME=" + home, "RUDMAR_TOKEN=", "RUDMAR_PASSWORD="}}
	wren.refused("status frostline --server "+r.address, "not signed in")
	withPassword := commands{t, append(wren.env, "RUDMAR_PASSWORD="+"orchard-at-dawn")}
	withPassword.want("login --username wren --server "+r.address, "signed in to "+r.address+" as wren")
	info, err := os.Stat(filepath.Join(home, "rudmar", "login.json"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the login is kept as %v: %v", info, err)
	}
	wren.refused("status frostline --server http://127.0.0.1:1", "not signed in to http://127.0.0.1:1")
	wren.refused("login", "--username")

	wren.want("status frostline", "live", "settled")
	var line api.StageLine
	if err := json.Unmarshal([]byte(wren.want("status frostline --format json")), &line); err != nil || len(line.Stages) != 3 {
		t.Errorf("%v: %+v", err, line)
	}
	wren.want("build list frostline", "version 7", "main")
	wren.want("build show frostline 1", "version")
	wren.refused("build show frostline 99", "not among")
	wren.want("invoke frostline trial warn", `"status":200`, "succeeded")
	wren.wantOf([]string{"invoke", "frostline", "trial", "warn", "--event", `{"method": "GET", "path": "/warn", "params": {"station": "weir"}}`}, "weir")
	wren.refused("invoke frostline trial warn --event {", "not valid JSON")
	wren.refused("invoke frostline trial warn --sample nothing", "unknown sample")
	wren.refused("invoke frostline trial nobody", "nobody")
	wren.refused("invoke frostline moon warn", `unknown stage "moon" of frostline (expected trial, preview, live`)
	wren.want("logs frostline trial --function warn", "warn (version 7)")
	wren.refused("logs frostline live", "--target")
	asked := commands{t, append(wren.env, "RUDMAR_YES=false")}
	asked.refused("deploy frostline live", "confirmation required: set --yes, or --if-digest ")
	asked.refused("deploy frostline live --if-digest 0123456789ab", "nothing was done; review it")
	digest := regexp.MustCompile(`digest (\S*[0-9a-f]{64})`).FindStringSubmatch(asked.atTerminal("deploy frostline live", "n", "not confirmed"))
	if digest == nil {
		t.Fatal("no digest was printed")
	}
	asked.want("deploy frostline live --if-digest "+digest[1], "function/warn: memory ", " (recorded ", "reverts drift",
		"succeeded restore  function/warn", "already matches version")
	wren.want("deploy frostline live", "already matches version")
	wren.want("deployment list frostline", "live")
	wren.want("plan frostline live", "already matches version")
	wren.refused("plan frostline preview --version 7", "is new in this stage (functions/relay/function.yaml:1, wren: Add a station's history")
	wren.want("delivery show frostline 7 preview", "waiting for 1 approval")
	wren.refused("delivery approve frostline 7 preview", "not allowed")
	asked.refused("delivery request frostline 6 live", "confirmation required: set --yes")
	asked.refused("delivery request frostline 6 live --if-digest 0123456789ab", "the change now has digest")
	asked.atTerminal("delivery request frostline 6 live", "n", "not confirmed: nothing was done")
	if out := wren.want("delivery show frostline 6 live"); strings.Contains(out, "requested by") {
		t.Errorf("it was requested without consent: %s", out)
	}
	asked.atTerminal("delivery request frostline 6 live", "y", "version 6 is waiting in live: waiting for 2 approvals")
	wren.want("delivery show frostline 6 live", "requested by wren")

	wren.refused("token create nightly --permission write", "a token cannot create another")
	asWren := " --username wren --server " + r.address
	withPassword.want("token create nightly --permission write --scope frostline --days 30"+asWren, "cannot be shown again")
	withPassword.refused("token create wide --permission approve"+asWren, "no right to approve")
	withPassword.refused("token create wide --scope nowhere"+asWren, "nowhere")
	out := withPassword.want("token create push --permission write --scope frostline" + asWren)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	text := lines[len(lines)-1]
	wren.want("token list", "nightly", "view, write", "frostline", "never")
	machine := commands{t, append(wren.env, "RUDMAR_TOKEN="+text)}
	machine.want("status frostline", "live")
	machine.refused("invoke frostline trial warn", "the token push of wren has view, write, not invoke")
	machine.refused("token revoke 1", "a token can revoke only itself")

	// git uses it as a password, and prints the version's progress.
	dir := r.clone("wren")
	address := strings.Replace(r.address, "http://", "http://wren:"+text+"@", 1) + "/git/brambleford.git"
	edit(t, dir, "frostline/functions/stations/stations.py", "import rudmar\n", "import rudmar\n\n# Told in the order of the map.\n")
	for _, args := range [][]string{{"commit", "-qam", "Say in which order"}, {"push", "-q", "-o", "sing", address, "HEAD:main"},
		{"push", address, "HEAD:lights"}, {"push", "-o", "wait", address, "HEAD:main"}} {
		out, err := run(t, dir, "git", args...)
		switch {
		case slices.Contains(args, "sing"):
			if err == nil || !strings.Contains(out, `unknown push option "sing"`) {
				t.Errorf("%v: %s", err, out)
			}
		case err != nil:
			t.Fatalf("git %v: %v: %s", args, err, out)
		case slices.Contains(args, "HEAD:lights"): // the same commit on main is built nevertheless
			if !strings.Contains(out, "No stage deploys from this branch, so nothing is built") {
				t.Errorf("%v: %s", args, out)
			}
		case args[0] == "push":
			for _, want := range []string{"main is version 8", "trial: settled", "preview: waiting for 1 approval"} {
				if !strings.Contains(out, want) {
					t.Errorf("a push that waits does not tell %q: %s", want, out)
				}
			}
		}
	}
	wren.want("logout", "signed out")
	wren.refused("status frostline --server "+r.address, "not signed in")
	withPassword.want("token list"+asWren, "nightly")
	if out := withPassword.want("token list" + asWren); strings.Contains(out, "login on") {
		t.Errorf("the token of the login is still there: %s", out)
	}
}
