package e2e

import (
	"archive/zip"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"rudmar/server/api"
)

// A build is read along and cancelled in the page; versions are compared; an archive is removed; a version is
// verified in the page and by the program.
func TestVersionsInThePage(t *testing.T) {
	r := demo(t)
	dir := r.clone("wren")
	manifest := filepath.Join(dir, "frostline/functions/intake/function.yaml")
	text, err := os.ReadFile(manifest)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(manifest, append(text, "build: {run: [\"echo reading the almanac; sleep 300\"]}\n"...),
		0o600); err != nil {
		t.Fatal(err)
	}
	pushMeanwhile(t, dir, "Intake reads the almanac")
	wren := r.open(browse(t), "wren")
	wren.goTo("versions")
	wren.reads("reading the almanac", "building")
	wren.press("^Cancel build")
	wren.reads("cancelled while running", "cancelled")
	// A commit names linden as author; wren pushed it, and the page says so.
	if err := os.WriteFile(manifest, append(text, "# Read twice a day.\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	git(t, dir, "commit", "--quiet", "--all", "--author", "linden <l@brambleford.invalid>", "-m", "Say how often")
	git(t, dir, "push", "--quiet", "origin", "HEAD")
	wren.reads("Say how often", "linden, pushed by wren")
	wren.goTo("deliveries")
	wren.reads("linden, pushed by wren")
	wren.goTo("journal")
	wren.reads("version 8 from")
	var journal []api.JournalEntry
	r.ask("wren", "GET", "/services/frostline/journal", nil, &journal)
	for _, e := range journal {
		if strings.HasPrefix(e.Text, "version 8 from") && e.Person != "wren" {
			t.Errorf("%s is said to have built it", e.Person)
		}
	}
	wren.goTo("versions")
	wren.click(`input[aria-label="Compare version 3"]`)
	wren.reads("Select another version to compare with version 3")
	wren.click(`input[aria-label="Compare version 6"]`)
	wren.press("^Compare 3 with 6")
	wren.reads("Version 3 and version 6", "report.py", "128 MiB → 192 MiB", "left: version 3")
	wren.press("Swap versions")
	wren.reads("Version 6 and version 3", "192 MiB → 128 MiB")
	fetched := func(headers ...string) (int, string, http.Header) {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, r.address+"/api/services/frostline/versions/5/functions/warn/archive", nil)
		if err != nil {
			t.Fatal(err)
		}
		q.SetBasicAuth("wren", "orchard-at-dawn")
		for i := 0; i < len(headers); i += 2 {
			q.Header.Set(headers[i], headers[i+1])
		}
		answer, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(body), answer.Header
	}
	status, whole, h := fetched()
	if status != 200 || h.Get("ETag") == "" || h.Get("Content-Disposition") != "attachment; filename=frostline-5-warn.zip" {
		t.Errorf("the archive: %d %v", status, h)
	}
	if status, part, _ := fetched("Range", "bytes=2-9"); status != 206 || part != whole[2:10] {
		t.Errorf("a part of it: %d %q", status, part)
	}
	if status, _, _ := fetched("If-None-Match", h.Get("ETag")); status != 304 {
		t.Errorf("unchanged: %d", status)
	}
	wren.goTo("versions/5")
	wren.reads("Built from commit", "all unchanged since the build")

	_, archive := r.try("wren", "GET", "/services/frostline/versions/5/functions/warn/archive", nil, nil)
	z, err := zip.NewReader(strings.NewReader(archive), int64(len(archive)))
	if err != nil || len(z.File) != 1 || z.File[0].Name != "warn.py" {
		t.Errorf("the archive: %v %s", err, archive)
	}
	out, err := run(t, dir, program, "version", "verify", "5", "--service", "frostline", "--data", r.data)
	if err != nil || !strings.Contains(out, "archive of warn") || strings.Contains(out, "ALTERED") ||
		!strings.Contains(out, "by wren") {
		t.Errorf("%v\n%s", err, out)
	}
	if out, err := run(t, dir, program, "prune", "--data", r.data, "--keep-build-logs", "1ms"); err != nil ||
		!strings.Contains(out, "build logs") || !strings.Contains(out, "to delete") {
		t.Errorf("%v\n%s", err, out)
	}
	archives, err := filepath.Glob(filepath.Join(r.data, "artifacts", "*.zip"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range archives {
		if err := os.WriteFile(name, []byte(archive+"x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := run(t, dir, program, "version", "verify", "5", "--service", "frostline", "--data", r.data); err == nil ||
		!strings.Contains(out, "ALTERED: its bytes differ from the signed ones") {
		t.Errorf("%v\n%s", err, out)
	}
}
