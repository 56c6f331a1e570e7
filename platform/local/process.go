package local

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Limits of what one call may write. What goes over is counted and left out.
const (
	maxLineBytes = 16 << 10
	maxLogBytes  = 256 << 10
	maxAnswer    = 12 << 20 // 6 MiB of bytes as base64, and more
	killGrace    = 300 * time.Millisecond
)

// process is one interpreter that runs one function's code. Calls go to it one
// after another.
type process struct {
	cmd *exec.Cmd
	// Calls go one way and answers the other, by pipes: they wake a process sooner than a socket.
	calls, answers *os.File
	reader         *bufio.Reader // of answers
	memory         *memoryWatch
	output         *outputs
	// keepsGarbage tells that what it holds while it idles would soon go over its limit.
	keepsGarbage bool

	done chan struct{} // closed when the process is gone

	over atomic.Bool // killed for its memory
	once sync.Once
}

// reply is what a worker answers.
type reply struct {
	Answer any `json:"answer"`
	Error  *struct {
		Kind    string `json:"kind"`
		Message string `json:"message"`
		Trace   string `json:"trace"`
	} `json:"error"`
	Memory bool `json:"memory"`
	// Peak is the most memory of the call, in bytes, where the worker knows better than the system.
	Peak int64 `json:"peak"`
	// Broken tells that the worker cannot take another call.
	Broken bool `json:"broken"`
}

// startFrame is what a worker gets first.
type startFrame struct {
	Code     string `json:"code"` // the folder
	Handler  string `json:"handler"`
	Function string `json:"function"`
	Version  int    `json:"version"`
	Stage    string `json:"stage"`
	Memory   int64  `json:"memory_limit"` // bytes
	Cache    string `json:"cache"`        // of compiled code
}

type processOptions struct {
	interpreter []string
	startFrame
	work         string
	env          []string
	beyond       int64 // what the process may hold on top of memory
	keepsGarbage bool
	apart        isolation
	user         int
	network      bool
}

// errGone tells that the process ended before it answered.
var errGone = errors.New("the process ended")

// start starts a process and tells it what to load. Its first reply, to be
// read with receive, says whether the handler is there.
func start(o processOptions) (*process, error) {
	p := &process{output: &outputs{}, keepsGarbage: o.keepsGarbage, done: make(chan struct{})}
	var theirs []*os.File
	end := func(what string, err error) (*process, error) {
		p.closePipes()
		p.output.close()
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	defer func() {
		for _, f := range theirs {
			f.Close()
		}
	}()
	calls, mine, err := os.Pipe()
	if err != nil {
		return end("making a pipe", err)
	}
	p.calls, theirs = mine, append(theirs, calls)
	mine, answers, err := os.Pipe()
	if err != nil {
		return end("making a pipe", err)
	}
	p.answers, theirs = mine, append(theirs, answers)
	for _, name := range []string{"out", "err"} {
		stream, err := p.output.newStream(name)
		if err != nil {
			return end("making a pipe", err)
		}
		theirs = append(theirs, stream)
	}
	p.reader = bufio.NewReaderSize(p.answers, 64<<10)
	p.cmd = exec.Command(o.interpreter[0], o.interpreter[1:]...)
	p.cmd.Dir, p.cmd.Env, p.cmd.SysProcAttr = o.work, o.env, o.apart.attributes(o.network, o.user)
	p.cmd.ExtraFiles, p.cmd.Stdout, p.cmd.Stderr = theirs[:2], theirs[2], theirs[3]
	if err := o.apart.starter.start(p.cmd); err != nil {
		return end("starting "+filepath.Base(o.interpreter[0]), err)
	}
	p.memory = watchMemory(p.cmd.Process.Pid, o.Memory+o.beyond, func() {
		p.over.Store(true)
		p.signal(syscall.SIGKILL)
	})
	go func() {
		p.output.follow()
		_ = p.cmd.Wait() // how it ended is told by the call that was running
		p.memory.stop()
		close(p.done)
	}()
	if err := p.send(o.startFrame, startLimit); err != nil {
		p.kill()
		return nil, err
	}
	return p, nil
}

// pipeRoom is what a pipe that is empty takes without anybody reading, in bytes.
const pipeRoom = 64 << 10

// send writes one frame. A process that does not read it within a time is as
// one that does not answer.
func (p *process) send(v any, within time.Duration) error {
	frame := bytes.NewBuffer(make([]byte, 4, 1024))
	if err := json.NewEncoder(frame).Encode(v); err != nil {
		return err
	}
	binary.BigEndian.PutUint32(frame.Bytes(), uint32(frame.Len()-4))
	if frame.Len() > pipeRoom {
		if err := p.calls.SetWriteDeadline(time.Now().Add(within)); err != nil {
			return err
		}
		defer func() { _ = p.calls.SetWriteDeadline(time.Time{}) }() // it may be closed by then
	}
	_, err := p.calls.Write(frame.Bytes())
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return context.DeadlineExceeded
	case err != nil:
		return errors.Join(errGone, err)
	}
	return nil
}

func (p *process) closePipes() {
	for _, f := range []*os.File{p.calls, p.answers} {
		if f != nil {
			f.Close()
		}
	}
}

// receive reads one reply. The context's end is no error of the process: the
// caller decides what to do with it.
func (p *process) receive(ctx context.Context) (reply, error) {
	stop := context.AfterFunc(ctx, func() { _ = p.answers.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	var head [4]byte
	var r reply
	if _, err := io.ReadFull(p.reader, head[:]); err != nil {
		return r, p.readError(ctx, err)
	}
	size := binary.BigEndian.Uint32(head[:])
	if size > maxAnswer {
		return r, fmt.Errorf("the answer has %d MiB; up to %d MiB are possible", size>>20, maxAnswer>>20)
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(p.reader, body); err != nil {
		return r, p.readError(ctx, err)
	}
	if err := json.Unmarshal(body, &r); err != nil {
		return r, fmt.Errorf("the answer is not JSON: %w", err)
	}
	return r, nil
}

func (p *process) readError(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return errors.Join(errGone, err)
}

func (p *process) signal(s syscall.Signal) {
	_ = syscall.Kill(-p.cmd.Process.Pid, s) // the whole group; it may be gone already
}

// end asks the process group to end, and makes it end after a grace.
func (p *process) end() {
	p.signal(syscall.SIGTERM)
	timer := time.AfterFunc(killGrace, p.kill)
	go func() {
		<-p.done
		timer.Stop()
		p.kill()
	}()
}

func (p *process) kill() {
	p.once.Do(func() {
		p.signal(syscall.SIGKILL)
		p.closePipes()
	})
}
