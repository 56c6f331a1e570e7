package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
)

// pages are the addresses of all main pages of the demo.
func pages() []string {
	return []string{"board?stage=live", "source?stage=live&file=functions/warn/function.yaml", "versions", "versions/7",
		"versions/6/compare/7", "plan?stage=preview", "plan?stage=live&version=3", "deliveries", "deliveries/7/preview",
		"deliveries/7/trial", "deployments/1", "functions/warn/invoke?stage=live", "functions/warn/logs?stage=trial",
		"functions/warn/metrics?stage=trial", "functions/relay/messages?stage=trial", "functions/warn/configuration?stage=live", "functions/night-report/configuration?stage=trial",
		"journal", "health", "/services", "/account", "/notifications", "/s/watering/deliveries/2/live", "/docs/manifest", "/api"}
}

// arrive opens a page and waits until its content has loaded.
func (p *tab) arrive(path string) {
	p.Helper()
	if !strings.HasPrefix(path, "/") {
		path = "/s/frostline/" + path
	}
	p.leaves(path)
	p.waits(path, `() => document.querySelector('main h1') !== null && !document.querySelector('[aria-busy=true]')`)
}

// fits checks a page at the widths of telephones, tablets and screens, 1024 being also 2048 zoomed to 200%:
// nothing overflows to the side, and nothing covers a control.
func (p *tab) fits(path string) {
	p.Helper()
	for _, width := range []int{390, 1024, 1920} {
		p.must("its size", p.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: width,
			Height: 844, DeviceScaleFactor: 1, Mobile: width < 700}))
		problems := p.standsOut()
		for range 20 { // drawn content, such as a chart, is drawn again for the new width
			if len(problems) == 0 {
				break
			}
			problems = p.standsOut()
		}
		for _, problem := range problems {
			p.Errorf("%s at %d: %s", path, width, problem)
		}
	}
	p.must("its size", p.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800,
		DeviceScaleFactor: 1}))
}

// standsOut lists elements that overflow a page, and covered ones.
func (p *tab) standsOut() []string {
	p.Helper()
	p.must("drawing it", p.page.WaitRepaint())
	found := p.page.Timeout(patience).MustEval(`() => {
		const out = []
		const name = (e) => e.tagName.toLowerCase() + (e.className ? '.' + String(e.className).split(' ').join('.') : '') +
			' "' + (e.getAttribute('aria-label') || e.textContent || '').trim().slice(0, 30) + '"'
		const wide = document.documentElement.clientWidth
		if (document.documentElement.scrollWidth > wide) {
			const past = [...document.body.querySelectorAll('*')].filter((e) => {
				const b = e.getBoundingClientRect()
				return b.width > 0 && b.right > wide + 1 && !e.closest('.overflow-auto, .line, .pages, .cm-editor, pre, .visually-hidden')
			})
			out.push('it is ' + document.documentElement.scrollWidth + ' wide: ' + past.slice(-3).map(name).join(', '))
		}
		for (const e of document.querySelectorAll('main a, main button, main input, main select, header a, header button')) {
			const b = e.checkVisibility() && e.getClientRects()[0]
			if (!b || b.width < 2 || b.height < 2 || b.top < 0 || b.bottom > innerHeight || b.left < 0 || b.right > wide) continue
			const box = e.closest('.lines, .cm-editor, .files, aside, .overflow-auto, .pages')?.getBoundingClientRect()
			if (box && (b.top < box.top || b.bottom > box.bottom || b.left < box.left || b.right > box.right)) continue
			const at = document.elementFromPoint(b.left + b.width / 2, b.top + b.height / 2)
			if (at && at !== e && !e.contains(at) && !at.contains(e) && !e.closest('label')?.contains(at)) out.push(name(e) + ' is under ' + name(at))
		}
		return JSON.stringify(out)
	}`).Str()
	var problems []string
	if err := json.Unmarshal([]byte(found), &problems); err != nil {
		p.Fatal(err)
	}
	return problems
}

// TestPages checks every page at all widths, and runs axe-core, with all its rules, on it, its menu and its
// dialogs, in light and in dark.
func TestPages(t *testing.T) {
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not installed; run `make setup`: %v", err)
	}
	r := demo(t)
	p := r.open(browse(t), "teasel")
	check := func(what string) {
		t.Helper()
		// The page's policy allows no external script: this one is added through the browser's tools.
		if _, err := (proto.RuntimeEvaluate{Expression: string(axe)}).Call(p.page); err != nil {
			t.Fatalf("loading axe-core: %v", err)
		}
		options := "{resultTypes: ['violations'], selectors: false}"
		if strings.HasSuffix(what, "dark") { // the page differs by its colours alone
			options = "{runOnly: ['color-contrast'], resultTypes: ['violations'], selectors: false}"
		}
		found, err := p.page.Timeout(patience).Eval(strings.Replace(`async () => {
			await Promise.all(document.getAnimations().map((a) => a.effect.getTiming().iterations === Infinity ? 0 : a.finished.catch(() => 0)))
			const r = await axe.run(document, OPTIONS)
			return JSON.stringify(r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + ' ' + (n.any[0]?.message ?? n.failureSummary ?? '')).join(' | ')))
		}`, "OPTIONS", options, 1))
		p.must("checking "+what, err)
		var problems []string
		if err := json.Unmarshal([]byte(found.Value.Str()), &problems); err != nil {
			t.Fatal(err)
		}
		for _, problem := range problems {
			t.Errorf("%s: %s", what, problem)
		}
	}
	// both checks the page in light and in dark: only its colors change.
	both := func(what string) {
		t.Helper()
		for _, scheme := range []string{"light", "dark"} {
			p.must("its colours", proto.EmulationSetEmulatedMedia{Features: []*proto.EmulationMediaFeature{
				{Name: "prefers-color-scheme", Value: scheme}}}.Call(p.page))
			p.must("drawing it", p.page.WaitRepaint())
			check(what + " in " + scheme)
		}
	}
	for _, path := range pages() {
		p.arrive(path)
		p.fits(path)
		both(path)
	}
	p.arrive("board?stage=live")
	p.press("^teasel")
	p.sees("the menu", ".dropdown-menu.show")
	both("the menu")
	p.key(input.Escape)
	p.find("night")
	p.reads("night-report")
	both("what was found")
	p.arrive("board?stage=live")
	p.must("asking for the keys", p.page.Keyboard.Type(input.AddKey("?", "", "Slash", 191, 0)))
	p.reads("Go to Board")
	both("the keys")
}
