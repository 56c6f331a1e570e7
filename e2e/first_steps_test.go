package e2e

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// shell is a user's terminal, with rudmar in the path.
type shell struct {
	*testing.T
	dir string
	env []string
}

// run runs a line of shell, and returns its output and exit code.
func (s *shell) run(line string) (string, int) {
	s.Helper()
	cmd := exec.Command("bash", "-o", "pipefail", "-c", line)
	cmd.Dir, cmd.Env = s.dir, s.env
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	switch {
	case err == nil:
		return string(out), 0
	case errors.As(err, &exit):
		return string(out), exit.ExitCode()
	}
	s.Fatal(err)
	return "", 0
}

func (s *shell) must(line string) string {
	s.Helper()
	out, code := s.run(line)
	if code != 0 {
		s.Fatalf("%s: exit code %d\n%s", line, code, out)
	}
	return out
}

// TestFirstSteps starts from nothing, creates a service, and follows its README line by line; then it reads
// plans by their exit codes, and removes everything.
func TestFirstSteps(t *testing.T) {
	t.Parallel()
	bin := t.TempDir()
	if err := os.Symlink(build(t), filepath.Join(bin, "rudmar")); err != nil {
		t.Fatal(err)
	}
	data, routesAt := filepath.Join(t.TempDir(), "rudmar-data"), freeAddress(t)
	s := &shell{T: t, dir: t.TempDir(), env: append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "HOME="+t.TempDir(),
		"RUDMAR_YES=true", "RUDMAR_DATA="+data, "RUDMAR_USERNAME=sedge", "RUDMAR_PASSWORD=reeds-by-the-weir",
		"GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME=sedge", "GIT_AUTHOR_EMAIL=s@x.invalid", "GIT_COMMITTER_NAME=sedge",
		"GIT_COMMITTER_EMAIL=s@x.invalid", "GIT_TERMINAL_PROMPT=0")}
	s.must("rudmar user create sedge --role administrator")
	r := launch(t, data, "serve", "--listen", "127.0.0.1:0", "--platform-listen", "127.0.0.1:0", "--routes-listen",
		routesAt, "--observe-every", "300ms")
	s.env = append(s.env, "RUDMAR_SERVER="+r.address)

	if out := s.must("rudmar new service cellar"); !strings.Contains(out, "README.md") ||
		!strings.Contains(out, "Next: cd cellar") {
		t.Errorf("%s", out)
	}
	if out, code := s.run("rudmar new service cellar"); code != 1 || !strings.Contains(out, "nothing was written") {
		t.Errorf("a second time: %d %s", code, out)
	}
	s.dir = filepath.Join(s.dir, "cellar")
	readme, err := os.ReadFile(filepath.Join(s.dir, "README.md"))
	if err != nil {
		t.Fatal(err)
	}
	told := ""
	blocks := regexp.MustCompile("(?s)```\n(.*?)```").FindAllStringSubmatch(string(readme), -1)
	for _, block := range blocks {
		for line := range strings.Lines(block[1]) {
			line = strings.NewReplacer("127.0.0.1:7070", strings.TrimPrefix(r.address, "http://"), "127.0.0.2:7072", routesAt,
				"$RUDMAR_USERNAME@", "$RUDMAR_USERNAME:$RUDMAR_PASSWORD@").Replace(strings.TrimSpace(line))
			if strings.HasPrefix(line, "export ") {
				continue
			}
			if strings.HasPrefix(line, "curl ") {
				until(t, "version 1 is settled in trial", func() bool {
					out, _ := s.run("rudmar delivery show cellar 1 trial")
					return strings.Contains(out, "version 1 is settled in trial")
				})
				line = strings.Replace(line, "curl ", "curl --silent --fail-with-body ", 1)
			}
			told += s.must(line) + "\n"
		}
	}
	for _, want := range []string{
		"1 function in 1 service, 0 problems",
		"Rudmar: main is version 1 of cellar, entering trial, then live: " + r.address + "/s/cellar/versions/1",
		`"hello":`, "linden", "wider access: GET /hello/{who} opens to authenticated",
	} {
		if !strings.Contains(told, want) {
			t.Errorf("it does not say %q:\n%s", want, told)
		}
	}
	until(t, "version 1 is settled in live", func() bool {
		out, _ := s.run("rudmar delivery show cellar 1 live")
		return strings.Contains(out, "version 1 is settled in live")
	})
	plans(s)
	removes(s, r)
}

// leaves lists drift, ignores it, and ends the ignoring.
func leaves(s *shell) {
	s.Helper()
	drift := func(code int, words ...string) {
		s.Helper()
		var out string
		until(s.T, "the drift to be "+strings.Join(words, ", "), func() bool {
			var got int
			out, got = s.run("rudmar drift list cellar trial")
			for _, w := range words {
				if !strings.Contains(out, w) {
					return false
				}
			}
			return got == code
		})
	}
	drift(4, "function/hello was changed outside Rudmar", "memory: recorded 128 MiB → actual 256 MiB")
	const leave = "rudmar drift ignore cellar trial function/hello --attribute memory "
	if out, code := s.run(leave); code != 2 || !strings.Contains(out, "--reason") {
		s.Errorf("left without a reason: %d %s", code, out)
	}
	if out, code := s.run(leave + "--reason x --until 2001-01-01"); code != 1 || !strings.Contains(out, "in the past") {
		s.Errorf("left until long ago: %d %s", code, out)
	}
	if out, code := s.run(strings.Replace(leave, "memory", "timeout", 1) + "--reason x"); code != 1 ||
		!strings.Contains(out, "matches the record") {
		s.Errorf("ignored what matches the record: %d %s", code, out)
	}
	s.must(leave + "--reason 'a cold week' --until 2999-01-01")
	drift(0, " until 1 Jan 2999: a cold week")
	if out, code := s.run("rudmar plan cellar trial"); code != 0 {
		s.Errorf("what is left is planned: %d %s", code, out)
	}
	s.must(leave + "--end")
	drift(4, "memory: recorded 128 MiB → actual 256 MiB\n")
}

// deployments lists deployments and outputs.
func deployments(s *shell) {
	s.Helper()
	if out := s.must("rudmar deployment list cellar"); !strings.Contains(out, "trial") || !strings.Contains(out, "version 1") ||
		!strings.Contains(out, "succeeded") {
		s.Errorf("the deployments: %s", out)
	}
	if out := s.must("rudmar deployment show 1 --follow"); !strings.Contains(out, "succeeded create   route/hello/ask") ||
		!strings.Contains(out, "deployment 1 of version 1 to trial on local/north: succeeded") {
		s.Errorf("one deployment: %s", out)
	}
	for line, want := range map[string]string{"rudmar deployment show x": "must be a number", "rudmar deployment show 99": "not found",
		"rudmar deployment show moon 1": "belongs to cellar, not moon",
		"rudmar deployment retry 1":     "it is succeeded", "rudmar output list cellar moon": `unknown stage "moon" of cellar (expected trial, live)`,
		"rudmar output list cellar trial --format xml": "text, json or env"} {
		if out, code := s.run(line); code == 0 || !strings.Contains(out, want) {
			s.Errorf("%s: %d %s", line, code, out)
		}
	}
	out := s.must(`eval "$(rudmar output list cellar trial --format env)" && echo "at $LOCAL_NORTH_ROUTE_HELLO_ASK"`)
	if !strings.HasPrefix(out, "at http://") || !strings.Contains(out, "/hello") {
		s.Errorf("the address among the outputs is %q", out)
	}
	s.must("rudmar output list cellar trial --format env --file outputs.env")
	if out := s.must(`. ./outputs.env && echo "at $LOCAL_NORTH_ROUTE_HELLO_ASK"`); !strings.Contains(out, "at http://") {
		s.Errorf("the address in the file is %q", out)
	}
	if out, code := s.run("rudmar output list cellar moon --file outputs.env; test -s outputs.env && echo kept"); code != 0 ||
		!strings.Contains(out, "kept") {
		s.Errorf("what could not be had: %s", out)
	}
	if out := s.must("rudmar output list cellar trial"); !strings.Contains(out, "open to authenticated") || !strings.Contains(out, "identity") {
		s.Errorf("the outputs: %s", out)
	}
	inTheFolder(s)
}

// inTheFolder leaves the service to the folder that the newcomer is in, and the stage to a flag.
func inTheFolder(s *shell) {
	s.Helper()
	for _, line := range []string{"output list", "logs", "case run", "plan", "drift list"} {
		named, code := s.run("rudmar " + line + " cellar trial | grep -v '^Plan\\|took'")
		if here, also := s.run("rudmar " + line + " --stage trial | grep -v '^Plan\\|took'"); here != named || also != code || here == "" {
			s.Errorf("%s in the folder: %d %s\nand of what is named: %d %s", line, also, here, code, named)
		}
	}
	for line, want := range map[string]string{"rudmar output list": "no stage given", "rudmar logs cellar": "no stage given",
		"cd / && rudmar case run --stage trial": "has no rudmar.yaml", "rudmar deploy cellar trial --stage live": "name one stage"} {
		if out, code := s.run(line); code != 2 || !strings.Contains(out, want) {
			s.Errorf("%s: %d %s", line, code, out)
		}
	}
}

// folders plans the folder, committed or not.
func folders(s *shell) {
	s.Helper()
	if out, code := s.run("rudmar plan --folder . --stage live"); code != 0 || !strings.Contains(out, "changes nothing in live") {
		s.Errorf("nothing is edited: %d %s", code, out)
	}
	s.must("cp -r functions/hello ../kept && printf 'timeout: 9s\\n' >> functions/hello/function.yaml && printf '\\n# more\\n' >> functions/hello/hello.py")
	if out, code := s.run("rudmar plan --folder . --stage live"); code != 4 || !strings.Contains(out, "This edit updates 1 function in live") ||
		!strings.Contains(out, "→ 9s") || !strings.Contains(out, "changed: hello.py") || !strings.Contains(out, "never deployed directly") {
		s.Errorf("an edit: %d %s", code, out)
	}
	if out, code := s.run("rudmar plan --folder . --stage live --format json"); code != 4 ||
		!strings.Contains(out, `"draft": true`) || !json.Valid([]byte(out)) {
		s.Errorf("an edit as JSON: %d %s", code, out)
	}
	s.must("printf 'timeout: soon\\n' >> functions/hello/function.yaml")
	if out, code := s.run("rudmar plan --folder . --stage live"); code != 3 || !strings.Contains(out, "functions/hello/function.yaml") {
		s.Errorf("an edit with an error: %d %s", code, out)
	}
	if out, code := s.run("rudmar plan --folder . cellar live"); code != 2 || !strings.Contains(out, "--stage") {
		s.Errorf("a folder and a service: %d %s", code, out)
	}
	if out, code := s.run("rudmar plan --folder functions --stage live"); code != 2 || !strings.Contains(out, "no rudmar.yaml") {
		s.Errorf("a folder of no service: %d %s", code, out)
	}
	s.must("rm -r functions/hello && mv ../kept functions/hello && git diff --exit-code")
}

// plans reads plans by their exit codes.
func plans(s *shell) {
	s.Helper()
	if out, code := s.run("rudmar plan cellar live"); code != 0 || !strings.Contains(out, "already matches version") {
		s.Errorf("nothing to do: %d\n%s", code, out)
	}
	s.must("rudmar platform change north/cellar/trial function/hello memory=256MiB")
	if out, code := s.run("rudmar plan cellar trial"); code != 4 || !strings.Contains(out, "reverts drift of 1 function") ||
		!strings.Contains(out, "memory: actual: 256 MiB → 128 MiB") {
		s.Errorf("something changes: %d\n%s", code, out)
	}
	leaves(s)
	folders(s)
	deployments(s)
	if out, code := s.run("rudmar plan cellar moon"); code != 2 || !strings.Contains(out, "it has trial, live") {
		s.Errorf("a stage that is not: %d\n%s", code, out)
	}
	s.must(`sed -i 's/^service: cellar/service: cellar\nsecrets: [key]/' rudmar.yaml && printf 'env: {KEY: "${secrets.key}"}\n' >> functions/hello/function.yaml`)
	out := s.must("git add --all && git commit -qm 'A secret' && git push -q http://$RUDMAR_USERNAME:$RUDMAR_PASSWORD@${RUDMAR_SERVER#http://}/git/cellar.git main 2>&1")
	if !strings.Contains(out, "version 2 of cellar") {
		s.Errorf("the push says %s", out)
	}
	if out, code := s.run("rudmar plan cellar live --version 2 --format json"); code != 5 ||
		!strings.Contains(out, `the secret \"key\" has no value in live`) {
		s.Errorf("a blocker: %d\n%s", code, out)
	}
	if out, code := s.run(
		"sed 's|local/north|loacl/north|' -i rudmar.yaml && git commit -qam 'Elsewhere' && git push http://$RUDMAR_USERNAME:$RUDMAR_PASSWORD@${RUDMAR_SERVER#http://}/git/cellar.git main"); code == 0 || !strings.Contains(out, `unknown platform "loacl"; did you mean "local"?`) {
		s.Errorf("an unknown platform: %d\n%s", code, out)
	}
	s.must("git reset -q --hard HEAD^")
	for line, want := range map[string]string{
		"rudmar plam": `did you mean \"plan\"`, "rudmar user lisst": "did you mean", "rudmar delivery": "approve",
		"rudmar plan": "no stage given", "rudmar new function ../../x": "a name has 1 to 40 lowercase letters",
		"rudmar new service Cellar!":              "a name has 1 to 40 lowercase letters",
		"rudmar delivery approve cellar one live": "must be a number",
	} {
		out, code := s.run(line)
		if wrong := line != "rudmar delivery"; wrong != (code == 2) ||
			!strings.Contains(out, strings.ReplaceAll(want, `\"`, `"`)) {
			s.Errorf("%s: %d\n%s", line, code, out)
		}
	}
	if token := s.must("rudmar platform caller me 2>/dev/null"); strings.Count(token, "\n") != 1 ||
		!strings.HasPrefix(token, "call-") {
		s.Errorf("a caller's token: %q", token)
	}
	// What only reads makes nothing.
	for _, line := range []string{"rudmar user list", "rudmar version verify 1",
		"rudmar platform show north/cellar/trial"} {
		if out, code := s.run(line + " --data " + s.dir + "/nowhere"); code == 0 || !strings.Contains(out, "nowhere") {
			s.Errorf("%s: %d %s", line, code, out)
		}
		if _, err := os.Stat(filepath.Join(s.dir, "nowhere")); err == nil {
			s.Errorf("%s made a folder", line)
		}
	}
	if out := s.must("rudmar version verify 1"); !strings.Contains(out, "version 1 of cellar") {
		s.Errorf("%s", out)
	}
}

// removes removes the service: by a commit without it, stage by stage, then from the list, with its repository.
func removes(s *shell, r *rig) {
	s.Helper()
	if out, code := s.run("rudmar service delete cellar --confirm cellar"); code != 1 ||
		!strings.Contains(out, "still has deployed resources") {
		s.Errorf("while it runs: %d %s", code, out)
	}
	told := s.must("git rm -qr rudmar.yaml functions && git commit -qm 'It was a good cellar' && git push -q http://$RUDMAR_USERNAME:$RUDMAR_PASSWORD@${RUDMAR_SERVER#http://}/git/cellar.git main 2>&1")
	if !strings.Contains(told, "is version 3 of cellar, deleting trial, then live: ") {
		s.Errorf("the push that takes it away: %s", told)
	}
	for _, stage := range []string{"trial", "live"} {
		until(s.T, "it waits for "+stage, func() bool {
			out, _ := s.run("rudmar delivery show cellar 3 " + stage)
			return strings.Contains(out, "waiting for a delivery request") &&
				(stage == "trial" || strings.Contains(out, "trial was removed and is skipped"))
		})
		if out, code := s.run("rudmar delivery request cellar 3 " + stage); code != 2 ||
			!strings.Contains(out, "resources are deleted") || !strings.Contains(out, "data loss: ") {
			s.Errorf("without confirmation: %d %s", code, out)
		}
		s.must("rudmar delivery request cellar 3 " + stage + " --confirm " + stage)
		until(s.T, "it is gone from "+stage, func() bool {
			out, _ := s.run("rudmar delivery show cellar 3 " + stage)
			return strings.Contains(out, "is settled in "+stage)
		})
	}
	if out, code := s.run("rudmar service delete cellar --confirm cella"); code != 1 ||
		!strings.Contains(out, "type its name") {
		s.Errorf("with another name: %d %s", code, out)
	}
	s.must("rudmar service delete cellar --confirm cellar && rudmar repository delete cellar --confirm cellar")
	if out := s.must("rudmar service list && rudmar repository list"); strings.Contains(out, "cellar") {
		s.Errorf("it is still there: %s", out)
	}
}
