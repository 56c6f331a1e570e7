package e2e

import (
	"flag"
	"path/filepath"
	"testing"
)

var shots = flag.String("shots", "", "take pictures of the main views into this folder")

// TestShots takes the pictures in docs/screenshots, when asked to.
func TestShots(t *testing.T) {
	if *shots == "" {
		t.Skip("only with -shots FOLDER; make shots does it")
	}
	r := demo(t)
	browser := browse(t)
	wren := r.open(browser, "wren")
	shoot := func(p *tab, name string) { p.shoot(filepath.Join(*shots, name+".png")) }

	wren.goTo("board?stage=live")
	wren.reads("What needs you", "warn was changed by hand")
	shoot(wren, "board")
	wren.goTo("source?stage=preview&file=functions/warn/function.yaml&line=12")
	wren.sees("the editor", ".cm-content")
	wren.reads("What it becomes in preview", "function/warn")
	shoot(wren, "source")
	wren.typeAtEnd("memroy: 256 MiB")
	wren.reads("did you mean")
	shoot(wren, "source-problem")
	wren.goTo("source?stage=trial")
	wren.press("^New function")
	wren.fill(`input[aria-label="Name of the new function"]`, "thaw")
	wren.press("^Make it")
	wren.reads("functions/thaw/function.yaml", "With the edit: new: function/thaw")
	wren.press("^Show the differences")
	wren.reads("committed at the left")
	shoot(wren, "source-new")
	wren.goTo("versions")
	wren.reads("functions that changed", "Frost warnings")
	shoot(wren, "versions")
	wren.goTo("versions/5")
	wren.reads("Build log", "warn.py")
	shoot(wren, "version")
	wren.goTo("plan?stage=live")
	wren.reads("is put right")
	shoot(wren, "plan-drift")
	wren.goTo("plan?stage=live&version=6")
	wren.reads("Version 6 onto live")
	shoot(wren, "plan")
	wren.goTo("deployments/8")
	wren.reads("What can be called")
	shoot(wren, "deployment")
	wren.goTo("deliveries?stage=preview")
	wren.reads("settled", "waiting")
	shoot(wren, "deliveries")
	wren.goTo("functions/warn/try?stage=trial")
	wren.press("Call it")
	wren.reads("memory peak")
	shoot(wren, "try")
	wren.goTo("functions/warn/log?stage=live")
	wren.reads("memory peak")
	shoot(wren, "log")
	wren.goTo("functions/night-report/settings?stage=trial")
	wren.reads("Permissions", "refused")
	shoot(wren, "settings")
	wren.goTo("journal")
	wren.reads("pushed")
	shoot(wren, "journal")
	linden := r.open(browser, "linden")
	linden.goTo("deliveries/7/preview")
	linden.reads("Approve", "waits for 1 approval")
	shoot(linden, "delivery")
	linden.press("Dark")
	linden.goTo("board?stage=preview")
	linden.reads("What needs you")
	shoot(linden, "board-dark")
}
