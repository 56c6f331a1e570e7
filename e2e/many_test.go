package e2e

import (
	"fmt"
	"testing"
)

// A plan of many functions and its impact are folded in the page, with counts, and open on a click.
func TestManyFunctionsAreFolded(t *testing.T) {
	r := demo(t)
	dir := r.clone("wren")
	orchard(t, dir, 60, "row%02d", "stages:\n  - stage: trial\n    target: local/north\n    enter: {when: push, branch: main}\n  - stage: live\n    target: local/north\n    enter: {after: trial, when: request}\n",
		func(i int) string {
			caller := "authenticated"
			if i == 59 { // the most severe one is above the fold
				caller = "anyone"
			}
			return fmt.Sprintf("triggers:\n  get: {route: \"GET /rows/%d\", open_to: %s}\n", i, caller)
		})
	if out, err := push(t, dir, "Sixty rows"); err != nil {
		t.Fatal(out)
	}
	wren := r.open(browse(t), "wren")
	sees := func(path string) {
		t.Helper()
		wren.must("going there", wren.page.Navigate(r.address+"/s/orchard/"+path))
	}
	sees("plan?stage=live&version=1")
	wren.reads("creates 60 functions", "row24", "35 more functions", "GET /rows/59 opens to anyone",
		"Show 47 more", "row07 and 52 more")
	wren.press("^35 more functions")
	wren.reads("function/row59")
	sees("deliveries/1/live")
	wren.reads("row07 and 52 more", "GET /rows/59 opens to anyone", "Show 47 more")
	wren.press("^Show 47 more")
	wren.reads("GET /rows/58 opens to authenticated")
}
