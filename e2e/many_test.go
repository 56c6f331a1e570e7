package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// A plan of many functions and what it means are folded in the page; what is
// folded is counted, and comes when somebody wants it.
func TestManyFunctionsAreFolded(t *testing.T) {
	r := demo(t)
	dir := r.clone("wren")
	write := func(name, text string) {
		name = filepath.Join(dir, "orchard", name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("rudmar.yaml", "rudmar: 1\nservice: orchard\nowner: growers\nstages:\n  - stage: trial\n    target: local/north\n    enter: {on: push, branch: main}\n  - stage: live\n    target: local/north\n    enter: {after: trial, on: request}\n")
	for i := range 60 {
		caller := "members"
		if i == 59 { // the worst of them stands before the fold
			caller = "anyone"
		}
		write(fmt.Sprintf("functions/row%02d/function.yaml", i),
			fmt.Sprintf("function: row%02d\nruntime: python\nhandler: main:run\ntriggers:\n  get: {route: \"GET /rows/%d\", open_to: %s}\n", i, i, caller))
		write(fmt.Sprintf("functions/row%02d/main.py", i), "def run(call):\n    return {}\n")
	}
	if out, err := push(t, dir, "Sixty rows"); err != nil {
		t.Fatal(out)
	}
	wren := r.open(browse(t), "wren")
	sees := func(path string) {
		t.Helper()
		wren.must("going there", wren.page.Navigate(r.address+"/s/orchard/"+path))
	}
	sees("plan?stage=live&version=1")
	wren.reads("60 functions appear", "row24", "35 more functions", "GET /rows/59 opens to anyone",
		"47 more of this kind", "row07 and 52 more")
	wren.press("^35 more functions")
	wren.reads("function/row59")
	sees("deliveries/1/live")
	wren.reads("row07 and 52 more", "GET /rows/59 opens to anyone", "47 more of this kind")
	wren.press("^47 more of this kind")
	wren.reads("GET /rows/58 opens to members")
}
