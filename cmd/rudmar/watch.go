package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/spf13/cobra"

	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/engine/source"
	"rudmar/server/api"
)

// settle is how long a folder must be unchanged before it is sent: editors and git write several files one
// after another.
const settle = 60 * time.Millisecond

func watchCommand() *cobra.Command {
	c := &config{}
	var once bool
	cmd := &cobra.Command{
		Use: "watch [FOLDER]", Short: "Sync a private copy of the first stage with a folder",
		Long: `Syncs your private copy of the service's first stage with the contents of a folder,
committed or not. The copy has its own data and addresses, the stage's settings, and its
secrets if you can use them. Only you can call its routes, with the printed token. The stages
themselves are never changed.

A saved file is deployed within a second or two; only changes are sent. Problems are
printed as by rudmar check, followed by the functions' logs. Keys:
  c      run the saved cases
  1..9   invoke a function with its first case or sample
  l      list the functions and their addresses
  o, p   open the routes for an hour to those that the manifests name; close them
  t      create another token for the routes
  x      delete the copy and quit
  q      quit; the copy is deleted after 30 minutes without use`,
		Args: cobra.MaximumNArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			w := &watcher{config: c, out: cmd.OutOrStdout(), dir: folderOf(args)}
			if once {
				return w.once(cmd.Context())
			}
			return w.watch(cmd.Context(), cmd.InOrStdin())
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().BoolVar(&once, "once", false, "sync the copy, run the saved cases and exit")
	return cmd
}

func folderOf(args []string) string {
	if len(args) == 0 {
		return "."
	}
	return args[0]
}

// watcher updates a copy from a folder.
type watcher struct {
	*config
	dir     string
	service string

	writing sync.Mutex // of out
	out     io.Writer

	sent      map[string]string // path → blob on the server
	digest    string
	functions []api.CopyFunction
	token     string // for the copy's routes
	openUntil int64
}

func (w *watcher) say(format string, args ...any) {
	w.writing.Lock()
	defer w.writing.Unlock()
	fmt.Fprintf(w.out, format+"\n", args...)
}

// read returns the folder's files by their paths.
func (w *watcher) read() (map[string]api.FolderFile, error) {
	folder, err := manifest.FromFS(os.DirFS(w.dir))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", w.dir, err)
	}
	out := map[string]api.FolderFile{}
	for _, name := range folder.Files() {
		content, err := folder.Read(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // deleted while the folder was read
		}
		if err != nil {
			return nil, fmt.Errorf("reading %s: %w", name, err)
		}
		executable := false
		if info, err := os.Stat(filepath.Join(w.dir, filepath.FromSlash(name))); err == nil {
			executable = info.Mode()&0o111 != 0
		}
		out[name] = api.FolderFile{Content: content, Executable: &executable}
	}
	return out, nil
}

// step sends the changes since the last time, and prints the result. It reports whether the folder is without
// errors.
func (w *watcher) step(ctx context.Context) (bool, error) {
	files, err := w.read()
	if err != nil {
		return false, err
	}
	begun := time.Now()
	change, blobs := w.change(files)
	if w.digest != "" && len(change.Files) == 0 {
		return true, nil
	}
	var got api.CopyOutcome
	path := "/services/" + url.PathEscape(w.service) + "/copy"
	err = w.askLong(ctx, http.MethodPut, path, change, &got)
	if status := (statusError{}); errors.As(err, &status) && status.code == http.StatusConflict {
		w.digest, w.sent = "", nil // the server restarted: send the whole folder
		change, blobs = w.change(files)
		err = w.askLong(ctx, http.MethodPut, path, change, &got)
	}
	if err != nil {
		return false, err
	}
	w.digest, w.sent = got.Digest, blobs
	return w.print(got, time.Since(begun)), nil
}

// change returns the differences between the folder and the server's copy.
func (w *watcher) change(files map[string]api.FolderFile) (api.CopyChange, map[string]string) {
	out := api.CopyChange{Base: w.digest, Files: map[string]*api.FolderFile{}}
	blobs := map[string]string{}
	for name, f := range files {
		blobs[name] = fmt.Sprint(source.BlobName(f.Content), api.OrZero(f.Executable))
		if w.sent[name] != blobs[name] {
			out.Files[name] = &f
		}
	}
	for name := range w.sent {
		if _, there := files[name]; !there {
			out.Files[name] = nil
		}
	}
	return out, blobs
}

func (w *watcher) print(got api.CopyOutcome, took time.Duration) bool {
	ok := got.Stage != ""
	for _, d := range got.Diagnostics {
		w.say("%s:%d:%d: %s: %s (%s)", d.File, d.Line, d.Column, d.Severity, d.Message, d.Code)
	}
	if !ok {
		w.say("-- not sent: the folder has errors; the copy is unchanged")
		return false
	}
	if text := strings.TrimSpace(got.Log); text != "" && len(got.Packed) > 0 {
		for line := range strings.Lines(text) {
			if !strings.Contains(line, " bytes, ") && !strings.Contains(line, ": unchanged, ") { // reported below
				w.say("   %s", strings.TrimRight(line, "\n"))
			}
		}
	}
	for _, note := range got.Notes {
		w.say("-- %s", note)
	}
	code := "no code"
	if len(got.Packed) > 0 {
		code = "code of " + strings.Join(got.Packed, ", ")
	}
	w.say("-- synced in %d ms: %s, %s (check %.0f, pack %.0f, send %.0f ms)", took.Milliseconds(), code,
		language.FormatCount(len(got.Steps), "step"), got.CheckMs, got.PackMs, got.SendMs)
	fresh := len(w.functions) != len(got.Functions)
	if w.functions = got.Functions; fresh {
		w.list()
	}
	w.callers(got)
	return true
}

// list prints the functions with their keys and addresses.
func (w *watcher) list() {
	for i, f := range w.functions {
		mark := " "
		if i < 9 {
			mark = fmt.Sprint(i + 1)
		}
		w.say("  %s  %s", mark, f.Name)
		for _, route := range f.Routes {
			w.say("       %s", route)
		}
	}
}

// once brings the copy up to date and runs the cases.
func (w *watcher) once(ctx context.Context) error {
	var err error
	if w.service, err = serviceIn(w.dir); err != nil {
		return err
	}
	ok, err := w.step(ctx)
	if err != nil {
		return err
	}
	if !ok {
		return coded{exitProblem, nil}
	}
	passed, err := w.cases(ctx)
	if err == nil && !passed {
		err = coded{exitFailed, nil}
	}
	return err
}

// watch updates the copy whenever the folder changes, until the context ends or somebody ends it.
func (w *watcher) watch(ctx context.Context, in io.Reader) error {
	var err error
	if w.service, err = serviceIn(w.dir); err != nil {
		return err
	}
	changes, err := fsnotify.NewWatcher()
	if err != nil {
		return fmt.Errorf("watching %s: %w", w.dir, err)
	}
	defer changes.Close()
	if err := watchFolders(changes, w.dir); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	keys, restore := readKeys(ctx, in, w)
	defer restore()
	w.say("-- private copy of the first stage of %s, synced with %s; keys: c cases, 1-9 invoke, l list, o open, p close, t token, x delete, q quit",
		w.service, w.dir)
	if _, err := w.step(ctx); err != nil {
		return err
	}
	go w.followLog(ctx)
	var still <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return nil
		case event, ok := <-changes.Events:
			if !ok {
				return nil
			}
			if event.Has(fsnotify.Create) {
				if info, err := os.Stat(event.Name); err == nil && info.IsDir() {
					if err := watchFolders(changes, event.Name); err != nil {
						w.say("-- %v", err)
					}
				}
			}
			still = time.After(settle)
		case err := <-changes.Errors:
			w.say("-- watching the folder: %v", err)
			still = time.After(settle)
		case <-still:
			still = nil
			if _, err := w.step(ctx); err != nil && ctx.Err() == nil {
				w.say("-- %v", err)
			}
		case key, ok := <-keys:
			if !ok {
				keys = nil
				continue
			}
			end, err := w.onKey(ctx, key)
			if err != nil && ctx.Err() == nil {
				w.say("-- %v", err)
			}
			if end {
				return nil
			}
		}
	}
}

// watchFolders watches a folder and those in it that count.
func watchFolders(changes *fsnotify.Watcher, dir string) error {
	return filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil:
			return fmt.Errorf("watching %s: %w", name, err)
		case !d.IsDir():
			return nil
		case name != dir && (strings.HasPrefix(d.Name(), ".") || d.Name() == "node_modules" || d.Name() == "__pycache__"):
			return fs.SkipDir
		}
		return changes.Add(name)
	})
}
