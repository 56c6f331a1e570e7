package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"
)

// patience is the time limit of a wait: far longer than needed, because a machine can be slow and shared.
const patience = 3 * time.Minute

// browse returns the headless browser of all tests: each person has a profile of their own
// in it.
func browse(t *testing.T) *rod.Browser {
	t.Helper()
	opening.Do(func() { shared, errOpen = launchBrowser() })
	if errOpen != nil {
		t.Fatal(errOpen)
	}
	return shared
}

func launchBrowser() (*rod.Browser, error) {
	chromium, err := exec.LookPath("chromium-headless-shell")
	if err != nil {
		chromium, err = exec.LookPath("chromium")
	}
	if err != nil {
		return nil, fmt.Errorf("a browser is needed: run `make setup-test`: %w", err)
	}
	address, err := launcher.New().Bin(chromium).Leakless(false).NoSandbox(true).
		Set("disable-gpu").Set("disable-software-rasterizer").Set("disable-gpu-rasterization").Set(
		"disable-gpu-compositing").Set("force-prefers-reduced-motion").Set("disable-quic").Set(
		"disable-component-update").Set("disable-extensions").Set("disable-background-networking").Set("no-first-run").
		Set("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost").Launch()
	if err != nil {
		return nil, fmt.Errorf("starting the browser: %w", err)
	}
	browser := rod.New().ControlURL(address)
	if err := browser.Connect(); err != nil {
		return nil, fmt.Errorf("connecting to the browser: %w", err)
	}
	return browser, nil
}

// tab is a page of one user.
type tab struct {
	*testing.T
	page *rod.Page
	rig  *rig
}

// open signs a user in, in a browser profile of their own.
func (r *rig) open(browser *rod.Browser, username string) *tab {
	r.Helper()
	own, err := browser.Incognito()
	if err != nil {
		r.Fatal(err)
	}
	page, err := own.Page(proto.TargetCreateTarget{URL: r.address})
	if err != nil {
		r.Fatal(err)
	}
	p := &tab{r.T, page.Timeout(20 * time.Minute), r}
	r.Cleanup(func() { _ = own.Close() })
	if err := page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800,
		DeviceScaleFactor: 1}); err != nil {
		r.Fatal(err)
	}
	// Several users work at once: each page receives keys as if it had the focus.
	if err := (proto.EmulationSetFocusEmulationEnabled{Enabled: true}).Call(page); err != nil {
		r.Fatal(err)
	}
	p.fill("#username", username)
	p.fill("#password", "orchard-at-dawn")
	p.press("Sign in")
	p.sees("Stage line", "nav.line .station")
	return p
}

func (p *tab) must(what string, err error) {
	p.Helper()
	if err == nil {
		return
	}
	text := ""
	if body, bodyErr := p.page.Timeout(5 * time.Second).Element("body"); bodyErr == nil {
		text, _ = body.Text()
	}
	p.Fatalf("%s: %v\nthe page says:\n%s", what, err, text)
}

// goTo opens an address of the service.
func (p *tab) goTo(path string) {
	p.Helper()
	p.leaves("/s/frostline/" + path)
	p.sees("the page", "main .page")
	// Content loads now: a click before that can miss a moving element. A page without data, as when a platform
	// is down, is shown all the same.
	page := p.page.Timeout(10 * time.Second)
	defer page.CancelTimeout()
	_ = page.Wait(rodEval(`() => !document.querySelector('main [aria-busy=true]')`))
}

// leaves goes to an address; an uncommitted edit is discarded.
func (p *tab) leaves(path string) {
	p.Helper()
	page := p.page.Timeout(patience)
	defer page.CancelTimeout()
	go page.EachEvent(func(*proto.PageJavascriptDialogOpening) bool {
		return proto.PageHandleJavaScriptDialog{Accept: true}.Call(page) == nil
	})()
	err := page.Navigate(p.rig.address + path)
	if err != nil && strings.Contains(err.Error(), "ERR_ABORTED") { // the page continued in the very moment: once more
		err = page.Navigate(p.rig.address + path)
	}
	p.must("going to "+path, err)
}

// sees waits for an element.
func (p *tab) sees(what, selector string) *rod.Element {
	p.Helper()
	e, err := p.page.Timeout(patience).Element(selector)
	p.must("waiting for "+what, err)
	return e
}

// reads waits until the page's text has all the words.
func (p *tab) reads(words ...string) {
	p.Helper()
	var text string
	limit := time.Now().Add(patience)
	for {
		body, err := p.page.Timeout(5 * time.Second).Element("body")
		if err == nil {
			text, _ = body.Text()
		}
		missing := ""
		for _, w := range words {
			if !strings.Contains(text, w) {
				missing = w
			}
		}
		if missing == "" {
			return
		}
		if time.Now().After(limit) {
			p.Fatalf("the page does not say %q; it says:\n%s", missing, text)
		}
		time.Sleep(40 * time.Millisecond) // interval of checks of a condition
	}
}

// fill types into a field, replacing its content.
func (p *tab) fill(selector, text string) {
	p.Helper()
	e := p.sees(selector, selector)
	p.must("marking "+selector, e.SelectAllText())
	p.must("typing into "+selector, e.Input(text))
}

// press presses the button or link of that name.
func (p *tab) press(name string) {
	p.Helper()
	p.hit(name, func(page *rod.Page) (*rod.Element, error) { return page.ElementR("button, a, summary", name) })
}

// click clicks the element of a selector.
func (p *tab) click(selector string) {
	p.Helper()
	p.hit(selector, func(page *rod.Page) (*rod.Element, error) { return page.Element(selector) })
}

// hit clicks an element, and repeats a click that missed because the page moved.
func (p *tab) hit(name string, find func(page *rod.Page) (*rod.Element, error)) {
	p.Helper()
	for range 5 {
		e, err := find(p.page.Timeout(patience))
		p.must("looking for "+name, err)
		p.must("waiting for "+name, e.WaitEnabled())
		p.must("waiting until "+name+" stands still", e.Timeout(patience).WaitStable(50*time.Millisecond))
		_, err = e.Eval(`() => {
			window.missed = true
			addEventListener('click', (c) => (window.missed = !this.contains(c.target)), { capture: true, once: true })
		}`)
		p.must("watching "+name, err)
		p.must("pressing "+name, e.Timeout(patience).Click(proto.InputMouseButtonLeft, 1))
		missed, err := p.page.Timeout(patience).Eval(`() => window.missed === true`)
		if err != nil || !missed.Value.Bool() { // another page means that the click worked
			return
		}
	}
	p.Fatalf("%s cannot be pressed: the page moves all the time", name)
}

// choose picks an option by its text.
func (p *tab) choose(selector, option string) {
	p.Helper()
	p.must("choosing "+option, p.sees(selector, selector).Select([]string{option}, true, rod.SelectorTypeText))
}

// key presses a key.
func (p *tab) key(k input.Key) {
	p.Helper()
	p.must("pressing a key", p.page.Keyboard.Press(k))
}

// find opens the box that finds things, and types into it at once.
func (p *tab) find(words string) {
	p.Helper()
	p.must("finding", p.page.KeyActions().Press(input.ControlLeft).Type(input.KeyK).Release(input.ControlLeft).Do())
	p.must("typing", p.page.InsertText(words))
}

// waits until a condition holds in the page, which can change meanwhile.
func (p *tab) waits(what, js string) {
	p.Helper()
	page := p.page.Timeout(patience)
	for {
		err := page.Wait(rodEval(js))
		if err == nil || page.GetContext().Err() != nil || !strings.Contains(err.Error(), "navigated") {
			p.must("waiting for "+what, err)
			return
		}
	}
}

// finds opens the first search result.
func (p *tab) finds(words string) {
	p.Helper()
	p.find(words)
	p.waits("the words in the box", `() => document.querySelector('#search-box')?.value === '`+words+`'`)
	p.waits("something found", `() => document.querySelectorAll('#found li').length > 0`)
	p.key(input.Enter)
}

// editing signs a user in who has started to edit a file.
func (r *rig) editing(browser *rod.Browser, username, text string) *tab {
	r.Helper()
	p := r.open(browser, username)
	p.goTo("source?file=functions/intake/intake.py")
	p.typeAtEnd(text)
	return p
}

// typeAtEnd types into the editor, after its last line.
func (p *tab) typeAtEnd(text string) {
	p.Helper()
	p.must("going to the editor", p.sees("the editor", ".cm-content").Focus())
	p.must("going to its end",
		p.page.KeyActions().Press(input.ControlLeft).Type(input.End).Release(input.ControlLeft).Do())
	p.must("typing", p.page.InsertText(text))
}

// shoot takes a screenshot.
func (p *tab) shoot(file string) {
	p.Helper()
	picture, err := p.page.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
	p.must("taking a picture", err)
	if err := os.WriteFile(file, picture, 0o644); err != nil {
		p.Fatal(err)
	}
}

// rodEval makes a condition of a script.
func rodEval(js string) *rod.EvalOptions { return rod.Eval(js) }
