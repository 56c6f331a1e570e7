package local

import (
	"bufio"
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"rudmar/cage"
)

// Limits of one invocation's output. Excess output is counted and dropped.
const (
	maxLineBytes = 16 << 10
	maxLogBytes  = 256 << 10
	maxAnswer    = 12 << 20 // 6 MiB of bytes as base64, and more
	killGrace    = 300 * time.Millisecond
)

// process is one interpreter that runs one function's code. Its invocations are sequential.
type process struct {
	cage *cage.Process
	// Requests and responses use pipes, which wake a process sooner than a socket.
	calls, answers *os.File
	reader         *bufio.Reader // of responses
	memory         *memoryWatch
	output         *outputs
	// keepsGarbage means that its idle memory would soon exceed the limit.
	keepsGarbage bool

	done chan struct{} // closed when the process has ended

	over atomic.Bool // killed for exceeding its memory
	once sync.Once
}

// reply is a worker's response.
type reply struct {
	// Call is the ID of its invocation; unprompted output has none.
	Call     string `json:"call"`
	Response any    `json:"answer"`
	Error    *struct {
		Kind    string `json:"kind"`
		Message string `json:"message"`
		Trace   string `json:"trace"`
	} `json:"error"`
	Memory bool `json:"memory"`
	// Peak is the peak memory of the invocation, in bytes, if the worker measures it better than the system.
	Peak int64 `json:"peak"`
	// Broken means that the worker cannot accept another invocation.
	Broken bool `json:"broken"`
}

// startFrame is the first message to a worker.
type startFrame struct {
	ID       string `json:"id"`
	Code     string `json:"code"` // the folder
	Handler  string `json:"handler"`
	Function string `json:"function"`
	Version  int    `json:"version"`
	Stage    string `json:"stage"`
	Memory   int64  `json:"memory_limit"` // bytes
	Cache    string `json:"cache"`        // of compiled code
}

type processOptions struct {
	startFrame
	spec         cage.Spec
	beyond       int64 // allowed on top of memory
	keepsGarbage bool
}

// errGone reports that the process ended before it responded.
var errGone = errors.New("the process exited")

// errStray reports output of a process that belongs to no invocation.
var errStray = errors.New("the process wrote a response that belongs to no invocation: descriptors 3 and 4 belong to the platform")

// kernelShare is the system's memory per process, such as page tables, in bytes.
const kernelShare = 12 << 20

// start starts a process in a cage and sends it the function to load. Its first reply, to be read with receive,
// reports whether the handler exists.
func start(k *cage.Keeper, o processOptions) (*process, error) {
	o.spec.Limits.Memory = o.Memory + o.beyond + kernelShare
	c, err := k.Start(o.spec)
	if err != nil {
		return nil, err
	}
	p := &process{cage: c, calls: c.In, answers: c.Out, output: newOutputs(), keepsGarbage: o.keepsGarbage,
		done: make(chan struct{})}
	p.reader = bufio.NewReaderSize(p.answers, 64<<10)
	err = errors.Join(p.output.add("out", c.Stdout), p.output.add("err", c.Stderr))
	p.memory = watchMemory(c, o.Memory+o.beyond, func() {
		p.over.Store(true)
		p.cage.Kill()
	})
	go func() {
		p.output.follow()
		<-c.Done() // its invocation reports how it ended
		p.memory.stop()
		close(p.done)
	}()
	if err == nil {
		err = p.send(o.startFrame, startLimit)
	}
	if err != nil {
		p.kill()
		return nil, errors.Join(err, c.Failure())
	}
	return p, nil
}

// pipeRoom is what an empty pipe accepts without a reader, in bytes: a page, for a user without privileges who
// has many pipes (pipe(7)).
const pipeRoom = 4 << 10

// send writes one frame. A process that does not read it in time counts as unresponsive.
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
		defer func() { _ = p.calls.SetWriteDeadline(time.Time{}) }() // it may be closed already
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

// receive reads the reply of an invocation. The context's end is not the process's error: the caller decides
// what to do with it. After any error the process accepts no other invocation.
func (p *process) receive(ctx context.Context, id string) (reply, error) {
	stop := context.AfterFunc(ctx, func() { _ = p.answers.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	var head [4]byte
	var r reply
	if _, err := io.ReadFull(p.reader, head[:]); err != nil {
		return r, p.readError(ctx, err)
	}
	size := binary.BigEndian.Uint32(head[:])
	if size > maxAnswer {
		return r, fmt.Errorf("the response has %d MiB; the limit is %d MiB", size>>20, maxAnswer>>20)
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(p.reader, body); err != nil {
		return r, p.readError(ctx, err)
	}
	if err := json.Unmarshal(body, &r); err != nil {
		return r, fmt.Errorf("the response is not JSON: %w", err)
	}
	if subtle.ConstantTimeCompare([]byte(r.Call), []byte(id)) != 1 {
		return reply{}, errStray
	}
	if !stop() { // a response at its deadline is late: otherwise the next invocation would end by that deadline
		return reply{}, ctx.Err()
	}
	return r, nil
}

func (p *process) readError(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return errors.Join(errGone, err)
}

// end asks the process to end, and kills it after a grace period.
func (p *process) end() {
	p.resume()
	p.cage.Signal(syscall.SIGTERM)
	timer := time.AfterFunc(killGrace, p.kill)
	go func() {
		<-p.done
		timer.Stop()
		p.kill()
	}()
}

func (p *process) kill() {
	p.once.Do(func() {
		p.cage.Kill()
		go func() {
			<-p.done
			p.cage.Release()
		}()
	})
}

// pause stops the process while it is idle.
func (p *process) pause() {
	p.cage.Signal(syscall.SIGSTOP)
	p.memory.slow()
}

// resume continues it.
func (p *process) resume() {
	p.memory.fast()
	p.cage.Signal(syscall.SIGCONT)
}
