package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"time"

	"golang.org/x/term"

	"rudmar/core/canon"
	"rudmar/server/api"
)

// interrupt is the byte of Ctrl-C in a raw terminal.
const interrupt = 3

// readKeys returns keys: from a terminal each as it is pressed, otherwise each character of the input. restore
// resets the terminal.
func readKeys(ctx context.Context, in io.Reader, w *watcher) (keys <-chan rune, restore func()) {
	restore = func() {}
	if f, ok := in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if before, err := term.MakeRaw(int(f.Fd())); err == nil {
			plain := w.out
			w.out = crlfWriter{plain}
			restore = func() {
				w.out = plain
				_ = term.Restore(int(f.Fd()), before) // the program ends anyway
			}
		}
	}
	out := make(chan rune)
	go func() {
		defer close(out)
		reader := bufio.NewReader(in)
		for {
			r, _, err := reader.ReadRune()
			if err != nil {
				return
			}
			if r == '\n' || r == '\r' || r == ' ' {
				continue
			}
			select {
			case out <- r:
			case <-ctx.Done():
				return
			}
		}
	}()
	return out, restore
}

// crlfWriter writes to a terminal that does not roll back to the first column by itself.
type crlfWriter struct{ io.Writer }

func (r crlfWriter) Write(p []byte) (int, error) {
	_, err := r.Writer.Write(bytes.ReplaceAll(p, []byte("\n"), []byte("\r\n")))
	return len(p), err
}

// onKey runs the action of a key, and reports whether that ends the watch.
func (w *watcher) onKey(ctx context.Context, key rune) (end bool, err error) {
	switch {
	case key == 'q' || key == interrupt:
		return true, nil
	case key == 'x':
		var session api.Session
		if err := w.ask(ctx, http.MethodGet, "/session", nil, &session); err != nil {
			return false, err
		}
		err := w.ask(ctx, http.MethodDelete,
			"/services/"+url.PathEscape(w.service)+"/copies/"+url.PathEscape(session.Username), nil, nil)
		if err == nil {
			w.say("-- the copy was deleted")
		}
		return err == nil, err
	case key == 'o':
		return false, w.routes(ctx, api.CopyChange{Routes: api.Optional(api.CopyChangeRoutesOpen)})
	case key == 'p':
		return false, w.routes(ctx, api.CopyChange{Routes: api.Optional(api.CopyChangeRoutesClose)})
	case key == 't':
		return false, w.routes(ctx, api.CopyChange{NewToken: api.Optional(true)})
	case key == 'l':
		w.list()
	case key == 'c':
		_, err = w.cases(ctx)
	case key >= '1' && key <= '9':
		if n := int(key - '1'); n < len(w.functions) {
			return false, w.call(ctx, w.functions[n].Name)
		}
		err = fmt.Errorf("no function %c", key)
	default:
		err = errors.New("keys: c runs the cases, 1 to 9 invoke a function, l lists them, o opens the routes for an hour, p closes them, t creates another token, x deletes the copy, q quits")
	}
	return false, err
}

// routes changes who can call the copy's routes.
func (w *watcher) routes(ctx context.Context, change api.CopyChange) error {
	change.Base, change.Files = w.digest, map[string]*api.FolderFile{}
	var got api.CopyOutcome
	if err := w.askLong(ctx, http.MethodPut, "/services/"+url.PathEscape(w.service)+"/copy", change, &got); err != nil {
		return err
	}
	w.token = ""
	w.callers(got)
	return nil
}

// callers prints who can call the copy's routes, if that has changed.
func (w *watcher) callers(got api.CopyOutcome) {
	if got.Token == w.token && api.OrZero(got.OpenUntil) == w.openUntil {
		return
	}
	w.token, w.openUntil = got.Token, api.OrZero(got.OpenUntil)
	if w.openUntil > 0 {
		w.say("-- the routes are open to those that the manifests name, until %s", time.UnixMilli(w.openUntil).Format("15:04"))
	} else {
		w.say("-- only you can call the routes; send the header Authorization: Bearer %s", w.token)
	}
}

// call calls a function of the copy with its first case or sample.
func (w *watcher) call(ctx context.Context, function string) error {
	var got api.Invocation
	if err := w.askLong(ctx, http.MethodPost, "/services/"+url.PathEscape(w.service)+"/copy/invocations",
		api.CopyInvocation{Function: function}, &got); err != nil {
		return err
	}
	if got.Error != nil {
		w.say("-> %s failed: %s (%s)", function, got.Error.Message, took(got))
		return nil
	}
	text, err := canon.Append(nil, got.Response)
	if err != nil {
		return err
	}
	w.say("-> %s (%s)", text, took(got))
	return nil
}

// cases runs the saved cases, and reports whether all passed.
func (w *watcher) cases(ctx context.Context) (bool, error) {
	var runs []api.CaseRun
	if err := w.askLong(ctx, http.MethodPost, "/services/"+url.PathEscape(w.service)+"/copy/cases", nil, &runs); err != nil {
		return false, err
	}
	failed := 0
	for _, r := range runs {
		if r.Passed {
			w.say("   passed  %s: %s", r.Function, r.Name)
			continue
		}
		failed++
		w.say("   FAILED  %s: %s (%s)", r.Function, r.Name, r.File)
		for _, o := range r.Outcomes {
			if !o.Passed {
				w.say("           expected %s, received %s", o.Expected, o.Received)
			}
		}
	}
	w.say("-- %d of %d cases passed", len(runs)-failed, len(runs))
	return failed == 0, nil
}

// followLog prints the logs of the copy's functions, and resumes after an interruption.
func (w *watcher) followLog(ctx context.Context) {
	last := ""
	path := "/services/" + url.PathEscape(w.service) + "/copy/logs/stream"
	begun := time.Now()
	for ctx.Err() == nil {
		_, _ = w.stream(ctx, path, &last, func(event string, data []byte) error { // it continues after any interruption
			if event != "lines" {
				return nil
			}
			var lines []api.LogLine
			if err := json.Unmarshal(data, &lines); err != nil {
				return err
			}
			w.writing.Lock()
			defer w.writing.Unlock()
			for _, l := range lines {
				if l.At >= begun.UnixMilli() { // not the lines before
					printLines(w.out, []api.LogLine{l})
				}
			}
			return nil
		})
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}
