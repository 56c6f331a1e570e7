package e2e

import (
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
)

// Leaving an uncommitted edit by a link, a key, a reload or signing out must be confirmed; a discarded edit is
// offered again.
func TestUnsavedEditsAreConfirmed(t *testing.T) {
	r := demo(t)
	wren := r.editing(browse(t), "wren", "# of mine\n")
	wren.reads("Commit 1 file")

	wren.press("^Versions$")
	wren.reads("Uncommitted edit", "1 file changed")
	wren.press("^Continue editing")
	wren.waits("the page to stay", `() => location.pathname.endsWith('/source') && !document.querySelector('.modal.show')`)
	wren.must("leaving the editor", wren.page.Keyboard.Press(input.Escape))
	wren.must("leaving the editor", wren.page.Keyboard.Press(input.Tab))
	wren.key('3')
	wren.reads("Uncommitted edit")
	wren.press("Leave and keep draft")
	wren.reads("versions never change")

	// In the meantime somebody else commits.
	dir := r.clone("sorrel")
	edit(t, dir, "frostline/functions/relay/relay.mjs", "import", "// Tells.\nimport")
	pushMeanwhile(t, dir, "Other words")
	wren.goTo("source?file=functions/intake/intake.py")
	wren.reads("Uncommitted draft of 1 file", "the branch has newer commits")
	wren.press("^Restore draft")
	wren.reads("# of mine", "Commit 1 file")

	// The browser itself confirms a reload; the editor's content is there again after it.
	wait, answer := wren.page.Timeout(patience).HandleDialog()
	go func() { _ = proto.PageReload{}.Call(wren.page) }()
	if dialog := wait(); dialog.Type != proto.PageDialogTypeBeforeunload {
		t.Errorf("a reload asks by %s", dialog.Type)
	}
	wren.must("reloading all the same", answer(&proto.PageHandleJavaScriptDialog{Accept: true}))
	wren.reads("Uncommitted draft of 1 file")
	wren.press("^Restore draft")
	wren.reads("Commit 1 file")

	wren.press("^wren$")
	wren.press("^Sign out")
	wren.reads("Uncommitted edit")
	wren.press("Leave and discard edit")
	wren.reads("Username", "Password")
}

// A user whose session ends signs in on the same page, and the request continues.
func TestExpiredSessionKeepsThePage(t *testing.T) {
	r := demo(t)
	wren := r.editing(browse(t), "wren", "# of mine\n")
	wren.reads("Commit 1 file")
	wren.page.MustEval(`async () => {
		const { csrf } = await (await fetch('/api/session')).json()
		await fetch('/api/session', { method: 'DELETE', headers: { 'X-CSRF-Token': csrf } })
	}`)
	wren.reads("Your session has ended")
	wren.fill(".modal #password", "orchard-at-dusk")
	wren.press("^Sign in")
	wren.reads("password is wrong")
	wren.fill(".modal #password", "orchard-at-dawn")
	wren.press("^Sign in")
	wren.waits("the box to go", `() => !document.querySelector('.modal.show')`)
	wren.reads("# of mine", "Commit 1 file")
	wren.fill(`input[aria-label="Message"]`, "In one go")
	wren.press("^Commit 1 file")
	wren.reads("In one go")
}

// Pages have titles, receive the focus, and keep their filters in the address; keys work as the list of
// shortcuts says.
func TestPageTitles(t *testing.T) {
	r := demo(t)
	before := r.plan("live", 7).Id
	wren := r.open(browse(t), "wren")
	wren.goTo("board?stage=live")
	for path, want := range map[string]string{"/account": "Account", "/notifications": "Notifications"} {
		wren.arrive(path)
		wren.waits("the title "+want, `() => document.title === '`+want+` · Rudmar'`)
	}
	wren.goTo("board?stage=live")
	title := func(want string) {
		t.Helper()
		wren.waits("the title "+want, `() => document.title === '`+want+` · frostline · Rudmar'`)
	}
	title("Board")
	for i, want := range []string{"Board", "Source", "Versions", "Plan for live", "Deliveries", "Functions in live",
		"Journal"} {
		if i == 0 {
			continue // the present position
		}
		wren.key(input.Key('1' + i))
		title(want)
		wren.waits("the focus on the heading", `() => document.activeElement?.tagName === 'H1'`)
		wren.waits("its name to be said", `() => document.getElementById('said').textContent === document.title`)
	}
	wren.arrive("plan?stage=trial")
	wren.reads("already matches version")
	if after := r.plan("live", 7).Id; after != before+1 {
		t.Errorf("looking at plans kept %d of them", after-before-1)
	}

	// What is typed after Ctrl+K is not lost, and leads somewhere.
	for words, leads := range map[string]string{
		"stations version": "versions/", "report.py": "file=functions/night-report/report.py", "RM1503": "/docs/diagnostics#rm1503",
		"logs of warn": "functions/warn/logs", "version 5": "versions/5", "limit setting": "file=rudmar.yaml",
		"sms_key": "plan?stage=", "newer version supersedes only": "/docs/decisions.",
	} {
		wren.arrive("board?stage=live")
		wren.finds(words)
		wren.waits(words+" to lead to "+leads, `() => location.href.includes('`+leads+`')`)
	}

	wren.arrive("deliveries?find=growers&state=waiting")
	wren.reads("Notify the growers themselves")
	if text := wren.page.MustElement("main").MustText(); strings.Contains(text, "A station's history") {
		t.Error("the list is not narrowed by its address")
	}
	wren.arrive("functions/warn/logs?stage=trial&find=succeeded&of=all")
	wren.reads("succeeded in")
	if text := wren.page.MustElement(".lines").MustText(); strings.Contains(text, "°C") {
		t.Error("the log is not narrowed by its address")
	}
	wren.arrive("board?stage=lost")
	wren.reads("Needs attention")
	wren.must("asking for what does not exist", wren.page.Navigate(r.address+"/s/lost/board"))
	wren.reads("Service lost not found", "Show all services")
}

// A day's work without a pointer: write, see the error, commit, approve, try, read the log.
func TestKeyboardOnly(t *testing.T) {
	r := demo(t)
	b := browse(t)
	wren := r.open(b, "wren")
	// tabs presses Tab until the focused element has this name.
	tabs := func(p *tab, name string) {
		p.Helper()
		var seen []string
		for range 150 {
			p.key(input.Tab)
			at := p.page.MustEval(`() => { const e = document.activeElement; return [e?.getAttribute('aria-label'), e?.textContent?.trim(), e?.labels?.[0]?.textContent, e?.getAttribute('href')].join('|') }`).Str()
			if strings.Contains(at, name) {
				return
			}
			seen = append(seen, at)
		}
		p.Fatalf("Tab never comes to %q, but to %.2000q", name, seen)
	}
	wren.finds("warn/function.yaml file")
	wren.waits("the file", `() => document.querySelector('.cm-content')?.textContent.includes('function: warn')`)
	tabs(wren, "File content")
	wren.must("to the end", wren.page.KeyActions().Press(input.ControlLeft).Type(input.End).Release(input.ControlLeft).Do())
	wren.must("typing", wren.page.InsertText("\nmemry: 256 MiB"))
	wren.reads("RM1101", "refuses commits with errors")
	wren.must("going back over it", wren.page.KeyActions().Press(input.ControlLeft).Type(input.KeyZ).Release(input.ControlLeft).Do())
	wren.reads("no errors")
	wren.must("a comment", wren.page.InsertText("\n# by keyboard\n"))
	wren.reads("Commit 1 file")
	wren.key(input.Escape) // closes the suggestions
	wren.key(input.Escape)
	tabs(wren, "Message")
	wren.must("typing", wren.page.InsertText("By keyboard alone"))
	wren.key(input.Enter)
	wren.reads("By keyboard alone")
	r.settles(8, "trial")

	teasel := r.open(b, "teasel")
	teasel.finds("Deliveries")
	teasel.waits("the list, and its heading to have the focus", `() => document.activeElement?.tagName === 'H1' && document.activeElement.textContent.trim() === 'Deliveries'`)
	teasel.sees("version 8 in preview", `main table a[href*="/deliveries/8/preview"]`) // otherwise Tab skips it
	tabs(teasel, "/deliveries/8/preview")
	teasel.key(input.Enter)
	teasel.reads("Version 8 in preview", "Impact of version 8 in preview")
	teasel.waits("what it means to be known", `() => [...document.querySelectorAll('main button')].some(b => b.textContent.trim() === 'Approve' && !b.disabled)`)
	tabs(teasel, "Approve")
	teasel.key(input.Enter)
	r.settles(8, "preview")

	wren.finds("warn function")
	wren.reads("Warns growers")
	tabs(wren, "Event (JSON)")
	tabs(wren, "Invoke")
	wren.key(input.Enter)
	wren.reads("succeeded")
	wren.finds("logs of warn")
	wren.reads("succeeded in")
}

// A missing part of the page belongs to an older Rudmar: the page reloads, once; if the part stays missing it
// does not reload again. A user who goes elsewhere meanwhile arrives there.
func TestReplacedPageReloadsOnce(t *testing.T) {
	wren := demo(t).open(browse(t), "wren")
	wren.goTo("journal?stage=trial")
	const isGone = `() => { window.before = true; return dispatchEvent(new Event('vite:preloadError', { cancelable: true })) }`
	if !wren.page.MustEval(`() => dispatchEvent(new Event('beforeunload')) && (` + isGone + `)() && !sessionStorage.length`).Bool() {
		t.Error("who leaves the page is held up")
	}
	wren.goTo("journal?stage=trial")
	if wren.page.MustEval(isGone).Bool() {
		t.Error("the first time is an error for somebody")
	}
	wren.waits("the page to load anew where it was", `() => !window.before && document.querySelector('main h1')?.textContent.trim() === 'Journal'`)
	if !wren.page.MustEval(isGone).Bool() {
		t.Error("the second time is silent")
	}
	wren.press("^Versions$")
	wren.waits("another page", `() => document.querySelector('main h1')?.textContent.trim() === 'Versions'`)
	if !wren.page.MustEval(`() => window.before === true`).Bool() {
		t.Error("the page loads again and again")
	}
}
