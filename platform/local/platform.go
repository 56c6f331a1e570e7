// Package local is the local platform: a small function platform that is part of Rudmar, runs
// functions, and implements the platform protocol. It stands in for the platform of a company and
// keeps its own state, apart from Rudmar's.
package local

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"github.com/labstack/echo/v5"

	"rudmar/cage"
	"rudmar/core/canon"
	"rudmar/datadir"
)

// Options is how a local platform runs.
type Options struct {
	Dir string // its own folder: database and archives
	// Token is the bearer token that Rudmar sends.
	Token string
	// RoutesAt is the address at which Routes is served, such as http://127.0.0.2:7072.
	RoutesAt string
	// DataAt is the address at which Protocol is served; functions reach their data there.
	DataAt string
	// Idle is how long an instance is kept without an invocation. Default 5 minutes.
	Idle   time.Duration
	Log    *slog.Logger
	Now    func() time.Time
	Python string // the interpreter; default /usr/bin/python3
	Node   string // the interpreter; default node on the path
	// Dial opens the connections of functions with network access; default the machine's own dialer, to
	// addresses outside the machine.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Self is the program that has WorkerCommand; default this program.
	Self string
}

// Platform is a running local platform.
type Platform struct {
	options      Options
	store        *store
	pool         *pool
	archives     *archives
	lock         *flock.Flock // of the folder
	observed     *observations
	dispatch     *dispatcher
	directory    *directory
	callers      callers
	skies        *faultStore
	fingerprints fingerprints
	origins      origins
	operations   *operations
	cages        *cage.Keeper
	functions    *http.Server // the data API of functions
	cancel       context.CancelFunc
	closing      <-chan struct{} // closed when shutdown starts
	running      sync.WaitGroup
}

// ErrTaken reports that another local platform has a folder.
var ErrTaken = errors.New("another local platform uses this folder; stop it first, or use another folder")

// LockFile is the file of the lock that a process has on the platform's data folder.
const LockFile = "platform.lock"

// Open opens the platform's folder and starts its schedules. Close ends it.
func Open(ctx context.Context, o Options) (*Platform, error) {
	if o.Idle == 0 {
		o.Idle = 5 * time.Minute
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Python == "" {
		o.Python = "/usr/bin/python3"
	}
	if o.Node == "" {
		o.Node = "node"
		if found, err := exec.LookPath("node"); err == nil {
			o.Node = found
		}
	}
	if o.Self == "" {
		self, err := os.Executable()
		if err != nil {
			return nil, fmt.Errorf("finding this program: %w", err)
		}
		o.Self = self
	}
	whole, err := filepath.Abs(o.Dir) // commands that run in other folders receive the absolute path
	if err != nil {
		return nil, fmt.Errorf("finding the platform's folder: %w", err)
	}
	o.Dir = whole
	for _, dir := range []string{"artifacts"} {
		if err := os.MkdirAll(filepath.Join(o.Dir, dir), 0o700); err != nil {
			return nil, fmt.Errorf("creating the platform's folder: %w", err)
		}
	}
	lock, err := datadir.Take(ctx, filepath.Join(o.Dir, LockFile))
	if errors.Is(err, datadir.ErrHeld) {
		return nil, fmt.Errorf("%w: %s", ErrTaken, o.Dir)
	}
	if err != nil {
		return nil, fmt.Errorf("locking the platform's folder: %w", err)
	}
	st, err := openStore(ctx, o.Dir)
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	p := &Platform{options: o, store: st, lock: lock, origins: origins{port: portOf(o.RoutesAt)}}
	if p.callers, err = newCallers(); err != nil {
		return nil, errors.Join(fmt.Errorf("preparing the platform: %w", err), st.db.Close(), lock.Unlock())
	}
	if p.observed, err = newObservations(ctx, st, o.Log, o.Now); err != nil {
		return nil, errors.Join(err, st.db.Close(), lock.Unlock())
	}
	p.archives = newArchives(filepath.Join(o.Dir, "artifacts"), o.Log, p.showAnew)
	p.pool = newPool(p)
	p.dispatch = newDispatcher(p)
	p.directory = newDirectory(st)
	p.operations = newOperations(p)
	if p.skies, err = openFaults(ctx, st, o.Now); err != nil {
		return nil, errors.Join(err, st.db.Close(), lock.Unlock())
	}
	if p.cages, err = cage.Open(cage.Config{Dir: filepath.Join(o.Dir, "cage"), Self: o.Self, Ready: readyCages,
		Dial: o.Dial, Log: o.Log}); err != nil {
		return nil, errors.Join(err, st.db.Close(), lock.Unlock())
	}
	ctx, p.cancel = context.WithCancel(context.WithoutCancel(ctx))
	p.closing = ctx.Done()
	for _, work := range []func(context.Context){p.observed.run, p.runSchedules, p.pool.run, p.dispatch.run,
		p.operations.run, p.checkArchives} {
		p.running.Add(1)
		go func() {
			defer p.running.Done()
			work(ctx)
		}()
	}
	for _, note := range p.notes() {
		o.Log.Warn("local platform", "note", note)
	}
	return p, nil
}

// withoutPaths removes the platform's folder from a message.
func (p *Platform) withoutPaths(text string) string {
	return strings.ReplaceAll(text, p.options.Dir, "…")
}

// readyCages is how many empty cages wait for a cold start.
const readyCages = 4

// notes describes the missing means of isolation.
func (p *Platform) notes() []string { return p.cages.Missing() }

// Close ends all instances and writes the data in memory.
func (p *Platform) Close() error {
	p.cancel()
	p.running.Wait()
	p.pool.close()
	p.cages.Close()
	if p.functions != nil {
		_ = p.functions.Close() // functions have ended
	}
	p.observed.flush(context.Background())
	return errors.Join(p.store.db.Close(), p.lock.Unlock())
}

// socketName is the socket of the data API, in a folder that functions can read.
const socketName = "data.sock"

// listenForFunctions serves the data API at a socket, because functions have no network.
func (p *Platform) listenForFunctions(name string) error {
	listener, err := net.Listen("unix", name)
	if err != nil {
		return err
	}
	if err := os.Chmod(name, 0o666); err != nil {
		return err
	}
	e := echo.New()
	e.HTTPErrorHandler = p.problem
	p.data(e)
	p.functions = &http.Server{Handler: e, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		if err := p.functions.Serve(listener); err != nil && !errors.Is(err, http.ErrServerClosed) {
			p.options.Log.Error("serving functions", "error", err)
		}
	}()
	return nil
}

func tagOf(attributes map[string]any) string {
	digest, err := canon.Digest(attributes)
	if err != nil {
		return ""
	}
	return strings.TrimPrefix(digest, "sha256:")[:16]
}

func (p *Platform) address(sc scope) string {
	return p.options.RoutesAt + "/" + sc.String()
}
