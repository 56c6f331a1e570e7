package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// The examples work as their README says.
func TestExamples(t *testing.T) {
	r := demo(t)
	r.ask("wren", "POST", "/repositories", map[string]string{"name": "examples"}, nil)
	dir := filepath.Join(t.TempDir(), "examples")
	if err := os.CopyFS(dir, os.DirFS("../examples")); err != nil {
		t.Fatal(err)
	}
	git(t, dir, "init", "-q", "-b", "main")
	git(t, dir, "remote", "add", "origin",
		strings.Replace(r.address, "http://", "http://wren:orchard-at-dawn@", 1)+"/git/examples.git")
	if out, err := push(t, dir, "Three services"); err != nil {
		t.Fatal(out)
	}
	answers := func(method, path, body, want string) {
		t.Helper()
		limit := time.Now().Add(5 * time.Minute)
		for {
			status, text := sent(t, method, "http://"+r.routes+"/north/"+path, strings.NewReader(body), nil)
			if got := fmt.Sprint(status, " ", text); strings.Contains(got, want) {
				return
			} else if time.Now().After(limit) {
				t.Fatalf("%s %s: %s, not %s", method, path, got, want)
			}
			time.Sleep(50 * time.Millisecond) // interval of checks of a condition
		}
	}
	answers("POST", "packing-shed/trial/growers/birch/crates", `{"kg": 12.5}`, `200 {"crates":1,"kg":12.5}`)
	answers("PUT", "price-board/trial/prices/pear", `{"pence": 240}`, `202 {"taken":true}`)
	answers("GET", "price-board/trial/prices", "", `"pear":{"pence":240}`)
	answers("GET", "labels/trial/crates/alder/123", "", `200 {"label":"alder 00123-6"}`)
}
