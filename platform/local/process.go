package local

import (
	"bufio"
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

// output is a piece of what a process wrote.
type output struct {
	at     time.Time
	stream string
	text   string
}

// process is one interpreter that runs one function's code. Calls go to it one
// after another.
type process struct {
	cmd    *exec.Cmd
	socket *os.File
	reader *bufio.Reader
	mark   string
	memory *memoryWatch
	// keepsGarbage tells that what it holds while it idles would soon go over its limit.
	keepsGarbage bool

	outputs chan output   // lines of both streams
	marks   chan struct{} // one for each end mark
	done    chan struct{} // closed when the process is gone

	over atomic.Bool // killed for its memory
	once sync.Once
}

// reply is what a worker answers.
type reply struct {
	Answer json.RawMessage `json:"answer"`
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

type processOptions struct {
	interpreter  []string
	code, work   string
	handler      string
	env          []string
	memory       int64
	beyond       int64 // what the process may hold on top of memory
	mark         string
	keepsGarbage bool
	cache        string // of compiled code
	apart        isolation
	network      bool
}

// errGone tells that the process ended before it answered.
var errGone = errors.New("the process ended")

// start starts a process and tells it what to load. Its first reply, to be
// read with receive, says whether the handler is there.
func start(o processOptions) (*process, error) {
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("making a socket pair: %w", err)
	}
	// Non-blocking, so that the runtime's poller serves it and deadlines work.
	if err := syscall.SetNonblock(pair[0], true); err != nil {
		return nil, err
	}
	mine, theirs := os.NewFile(uintptr(pair[0]), "worker"), os.NewFile(uintptr(pair[1]), "host")
	defer theirs.Close()
	command := o.apart.command(o.interpreter)
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir, cmd.Env, cmd.ExtraFiles = o.work, o.env, []*os.File{theirs}
	cmd.SysProcAttr = o.apart.attributes(o.network)
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	stderr, err := cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		mine.Close()
		return nil, fmt.Errorf("starting %s: %w", filepath.Base(o.interpreter[0]), err)
	}
	p := &process{cmd: cmd, socket: mine, reader: bufio.NewReaderSize(mine, 64<<10), mark: o.mark, keepsGarbage: o.keepsGarbage,
		outputs: make(chan output, 256), marks: make(chan struct{}, 2), done: make(chan struct{})}
	p.memory = watchMemory(cmd.Process.Pid, o.memory+o.beyond, func() {
		p.over.Store(true)
		p.signal(syscall.SIGKILL)
	})
	var streams sync.WaitGroup
	streams.Add(2)
	go p.read(stdout, "out", &streams)
	go p.read(stderr, "err", &streams)
	go func() {
		streams.Wait()
		_ = cmd.Wait() // how it ended is told by the call that was running
		p.memory.stop()
		close(p.done)
	}()
	if err := p.send(map[string]any{"code": o.code, "handler": o.handler, "memory_limit": o.memory, "mark": o.mark, "cache": o.cache}); err != nil {
		p.kill()
		return nil, err
	}
	return p, nil
}

func (p *process) send(v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	frame := append(binary.BigEndian.AppendUint32(make([]byte, 0, len(body)+4), uint32(len(body))), body...)
	_, err = p.socket.Write(frame)
	return err
}

// receive reads one reply. The context's end is no error of the process: the
// caller decides what to do with it.
func (p *process) receive(ctx context.Context) (reply, error) {
	stop := context.AfterFunc(ctx, func() { _ = p.socket.SetReadDeadline(time.Unix(1, 0)) })
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

// read takes a stream apart into lines, stamps them, and takes out the end marks.
func (p *process) read(r io.ReadCloser, stream string, streams *sync.WaitGroup) {
	defer streams.Done()
	lines := bufio.NewReaderSize(r, maxLineBytes)
	for {
		line, err := lines.ReadSlice('\n')
		text := string(line)
		if n := len(text); n > 0 && text[n-1] == '\n' {
			text = text[:n-1]
		}
		switch before, marked := cutMark(text, p.mark); {
		case marked:
			if before != "" {
				p.outputs <- output{time.Now(), stream, before}
			}
			p.marks <- struct{}{}
		case len(line) > 0:
			p.outputs <- output{time.Now(), stream, text}
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return
		}
	}
}

// cutMark finds the end mark, which may follow a line that was not ended.
func cutMark(text, mark string) (string, bool) {
	if n := len(text) - len(mark); n >= 0 && text[n:] == mark {
		return text[:n], true
	}
	return text, false
}

// collect gathers lines until both streams showed their end mark, the process
// is gone, or the context ends. Each line goes to keep.
func (p *process) collect(ctx context.Context, keep func(output)) {
	for seen := 0; seen < 2; {
		select {
		case o := <-p.outputs:
			keep(o)
		case <-p.marks:
			seen++
		case <-p.done:
			p.drain(keep)
			return
		case <-ctx.Done():
			p.drain(keep)
			return
		}
	}
	p.drain(keep)
}

func (p *process) drain(keep func(output)) {
	for {
		select {
		case o := <-p.outputs:
			keep(o)
		default:
			return
		}
	}
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
		p.socket.Close()
		go func() { // nobody may be reading: let the readers come to their end
			for {
				select {
				case <-p.outputs:
				case <-p.marks:
				case <-p.done:
					return
				}
			}
		}()
	})
}
