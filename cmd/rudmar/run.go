package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/gofrs/flock"
	"github.com/spf13/cobra"

	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

// you is the username of a run without a server.
const you = "you"

// secretVariable is the prefix of environment variables with secrets.
const secretVariable = "RUDMAR_SECRET_"

func runCommand() *cobra.Command {
	c := &config{}
	var once bool
	cmd := &cobra.Command{
		Use: "run [FOLDER]", Short: "Run a folder's functions on this machine, without a server",
		Long: `Works like rudmar watch, with the local platform inside this process, so it needs no
server and changes none. Secrets come from the environment: RUDMAR_SECRET_SMS_KEY is the
secret sms_key. Build commands run as you. All data is deleted at the end, unless --data
names a folder to keep it.`,
		Args: cobra.MaximumNArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if c.data == "" {
				if err := sweepRuns(cmd.Context()); err != nil {
					return err
				}
				dir, err := os.MkdirTemp("", runPrefix)
				if err != nil {
					return fmt.Errorf("making a folder for data: %w", err)
				}
				defer os.RemoveAll(dir)
				c.data = dir
			}
			c.buildsUncaged = true
			w := &watcher{config: c, out: cmd.OutOrStdout(), dir: folderOf(args)}
			return w.alone(cmd.Context(), cmd.InOrStdin(), once)
		},
	}
	c.dataFlag(cmd.Flags(), "")
	c.platformFlags(cmd.Flags())
	cmd.Flags().BoolVar(&once, "once", false, "run the saved cases and exit")
	for flag, value := range map[string]string{"platform-listen": "127.0.0.1:0", "routes-listen": "127.0.0.2:0"} {
		cmd.Flags().Lookup(flag).DefValue = value
		if err := cmd.Flags().Set(flag, value); err != nil {
			panic(err) // the flag is defined by this program
		}
	}
	return cmd
}

// alone runs a server of its own for the folder's service, and watches.
func (w *watcher) alone(ctx context.Context, in io.Reader, once bool) error {
	var err error
	if w.service, err = serviceIn(w.dir); err != nil {
		return err
	}
	w.listen, w.quiet = "127.0.0.1:0", !w.verbose
	if w.lookEvery == 0 {
		w.lookEvery = usualLook
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var ended error
	err = w.serve(ctx, func(ctx context.Context, e *engine.Engine) error {
		if err := w.setUp(ctx, e); err != nil {
			return err
		}
		w.server, w.username = w.address, you
		if once {
			ended = w.once(ctx)
		} else {
			ended = w.watch(ctx, in)
		}
		cancel()
		return nil
	})
	return errors.Join(ended, err)
}

// setUp creates the user, the service and its secrets.
func (w *watcher) setUp(ctx context.Context, e *engine.Engine) error {
	w.typed = randomWord()
	if err := e.People.Add(ctx, people.NewUser{Username: you, Role: rights.Administrator, Password: w.typed},
		you); err != nil {
		return err
	}
	if err := e.CreateRepository(ctx, w.service, you); err != nil {
		return err
	}
	if err := e.Store.AddService(ctx, store.Service{Name: w.service, Repository: w.service, Dir: "."}, false, you); err != nil {
		return err
	}
	folder, err := manifest.FromFS(os.DirFS(w.dir))
	if err != nil {
		return err
	}
	own := check.Options{Offers: offlineOffers()}.Service(folder).Service
	if own == nil || len(own.Stages) == 0 {
		return nil // an update reports it
	}
	for _, name := range own.Secrets {
		value, ok := os.LookupEnv(secretVariable + strings.ToUpper(strings.ReplaceAll(name, "-", "_")))
		if !ok {
			w.say("-- the secret %s is empty; set it as %s%s", name, secretVariable, strings.ToUpper(name))
			continue
		}
		if err := e.People.SetSecret(ctx, w.service, own.Stages[0].Name, name, value, you); err != nil {
			return err
		}
	}
	return nil
}

// runPrefix begins the names of the folders of data that rudmar run deletes at its end.
const runPrefix = "rudmar-run-"

// sweepRuns deletes the folders that killed runs of this user left behind.
func sweepRuns(ctx context.Context) error {
	old, err := filepath.Glob(filepath.Join(os.TempDir(), runPrefix+"*"))
	if err != nil {
		return fmt.Errorf("finding folders of earlier runs: %w", err)
	}
	for _, dir := range old {
		if info, err := os.Lstat(dir); err != nil || !info.IsDir() || !ownedByMe(info) {
			continue
		}
		lock := flock.New(filepath.Join(dir, engine.LockFile), flock.SetPermissions(0o600))
		if free, err := lock.TryLock(); err != nil || !free { // a run is in progress, or is starting
			continue
		}
		if info, err := os.Stat(filepath.Join(dir, "platform")); err == nil && info.IsDir() {
			_ = os.RemoveAll(dir) // a remaining folder does no harm
		}
		_ = lock.Unlock()
	}
	return ctx.Err()
}

func ownedByMe(info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == os.Getuid()
}
