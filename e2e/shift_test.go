package e2e

import (
	"encoding/xml"
	"os"
	"path/filepath"
	"testing"

	"rudmar/server/api"
)

const canal = "/services/watering"

// In the demo a version rolled back automatically, and the page shows why; another one is in the middle of its
// shift, and a user pauses it, resumes it, and rolls it back. In another service a rule rejects a version, and
// one waits for a freeze to end.
func TestShiftInThePage(t *testing.T) {
	r := demo(t)
	p := r.open(browse(t), "wren")
	p.arrive("/s/boxes/deliveries?stage=shop")
	p.reads("blocked by the rule nothing-goes; 1 more", "waiting", "frozen until", "Crate days")
	p.arrive("/s/boxes/deliveries/4/shop")
	p.reads("nothing-goes", "not met: plan.deletes.size() == 0", "does not pass by waiting")
	p.arrive("/s/watering/deliveries?stage=live")
	p.reads("Lead time to live", "Deployment frequency", "50%", "Deliveries to live by week", "Median lead time")
	p.press("^Versions in these figures")
	p.reads("2 rolled-back")
	p.arrive("/s/watering/deliveries/2/live")
	p.reads("Rolled back: valve:", "invocations failed", "if both were equal", "Completed steps")
	p.arrive("/s/watering/deliveries/3/live")
	p.reads("version 1 90% · 3 10%", "10%", "valve", "Pause")
	p.press("^Pause")
	p.reads("Paused by wren. When resumed, traffic increases to 50%")
	p.press("^Resume")
	p.reads("Pause")
	p.press("^Move to next step now")
	p.reads("version 1 50% · 3 50%")
	until(t, "half of the calls go to it", func() bool {
		var list []api.StageOutput
		r.ask("wren", "GET", canal+"/outputs?stage=live", nil, &list)
		var d api.DeliveryStage
		r.ask("wren", "GET", canal+"/deliveries/3/stages/live", nil, &d)
		return d.Shift != nil && d.Shift.Share == 50 && d.Shift.Since != nil
	})
	if status, text := r.try("linden", "POST", canal+"/deliveries/3/stages/live/abort", api.DeliveryDecision{}, nil); status != 204 {
		t.Errorf("an approver may run plans: %d %s", status, text)
	}
	p.reads("rolled back", "rolled back by linden")
	until(t, "version 1 is there again", func() bool {
		var line api.StageLine
		r.ask("wren", "GET", canal+"/stage-line", nil, &line)
		return line.Stages[1].State == "settled" && line.Stages[1].Version == 1
	})
	p.reads("version 1")
	if status, _ := r.try("linden", "POST", canal+"/deliveries/3/stages/live/pause", api.DeliveryDecision{}, nil); status != 409 {
		t.Errorf("what is over is held: %d", status)
	}
}

// The page and the command line run the cases of a stage; the command writes them in the format of other CI; a
// failed case shows the whole invocation.
func TestCasesOnRequest(t *testing.T) {
	r := demo(t)
	c := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_USERNAME=wren", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	file := filepath.Join(t.TempDir(), "cases.xml")
	c.want("case run frostline --stage trial", "8 of 8 cases passed", "passed  warn: a mild night gives no warning")
	c.want("case run frostline --stage trial --function warn --format junit --output " + file)
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var report struct {
		Suites []struct {
			Name     string `xml:"name,attr"`
			Tests    int    `xml:"tests,attr"`
			Failures int    `xml:"failures,attr"`
			Cases    []struct {
				Class   string    `xml:"classname,attr"`
				Failure *struct{} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal(text, &report); err != nil || len(report.Suites) != 1 || report.Suites[0].Tests != 3 ||
		len(report.Suites[0].Cases) != 3 || report.Suites[0].Cases[0].Class != "frostline.warn" {
		t.Errorf("%v: %s", err, text)
	}
	c.refused("case run frostline", "--stage")
	c.refused("case run frostline --stage nowhere", "nothing of frostline is deployed in nowhere")
	c.refused("case run frostline --stage trial --format tap", "(expected text, json or junit")
	// Somebody changes a limit by hand, and a case notices.
	if out, err := run(t, ".", build(t), "platform", "change", "north/frostline/trial", "function/warn", "env.MODE=3",
		"env.LIMIT_C=99", "--data", r.data); err != nil {
		t.Fatal(out)
	}
	c.refused("case run frostline --stage trial --function warn", "sent {")
	c.refused("case run frostline --stage trial --function warn --format junit", "<failure message=")

	p := r.open(browse(t), "wren")
	p.arrive("/s/frostline/deliveries/7/trial")
	p.reads("all 8 passed")
	p.press("^Run cases now")
	p.reads("Results of this run", "of 8 failed", "succeeded")
	p.arrive("/s/frostline/deliveries/6/preview")
	p.reads("Run cases now")
	teasel := r.open(browse(t), "teasel")
	teasel.arrive("/s/frostline/deliveries/5/trial")
	teasel.reads("Cases")
}
