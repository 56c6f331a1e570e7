package cage

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"apart"
)

// ErrOpen reports that this machine cannot shut commands in.
var ErrOpen = errors.New("this machine provides no namespaces to isolate commands")

// ErrEnded reports that a session ended before it responded.
var ErrEnded = errors.New("the cage exited")

// Session is a cage in which commands run one after another over the same private folder. Files are passed
// through it; it changes no file of the machine.
type Session struct {
	process *Process
	output  *marked
	way     func(net.Conn) // accepts connections to the proxy's address
}

// marked forwards output up to a mark, which it removes.
type marked struct {
	to io.Writer

	mu   sync.Mutex
	mark []byte
	seen chan struct{}
	held []byte // possibly the start of the mark
}

// expect returns a new mark, and a channel that is closed once the mark was read.
func (m *marked) expect() (mark string, seen <-chan struct{}) {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // documented never to fail
	m.mu.Lock()
	defer m.mu.Unlock()
	m.mark, m.seen = []byte(hex.EncodeToString(b)), make(chan struct{})
	return string(m.mark), m.seen
}

func (m *marked) Write(p []byte) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.held = append(m.held, p...)
	if m.mark == nil {
		return len(p), m.pass(len(m.held))
	}
	at := bytes.Index(m.held, m.mark)
	if at < 0 {
		return len(p), m.pass(max(0, len(m.held)-len(m.mark)+1))
	}
	err := m.pass(at)
	m.held = m.held[len(m.mark):]
	m.mark = nil
	close(m.seen)
	return len(p), err
}

// pass passes so many bytes on.
func (m *marked) pass(n int) error {
	if n == 0 {
		return nil
	}
	_, err := m.to.Write(m.held[:n])
	m.held = append(m.held[:0], m.held[n:]...)
	return err
}

// File is a file that a session receives or returns.
type File struct {
	Path       string
	Executable bool
	Content    []byte
}

// Session creates a cage for commands. Their output is written to out. way serves the network requests of
// commands with network access.
func (k *Keeper) Session(s Spec, out io.Writer, way func(net.Conn)) (*Session, error) {
	if !k.plan.Spaces {
		return nil, ErrOpen
	}
	s.Session = true
	p, err := k.start()
	if err != nil {
		return nil, err
	}
	if !k.whileOpen(func() { <-p.done }) {
		p.Kill()
		<-p.done
		p.Release()
		return nil, ErrClosed
	}
	session := &Session{process: p, output: &marked{to: out}, way: way}
	for _, f := range []*os.File{p.Stdout, p.Stderr} {
		go func() { _, _ = io.Copy(session.output, f) }() // it ends with the cage
	}
	if err := p.enter(s); err != nil {
		p.Kill()
		<-p.done
		p.Release()
		return nil, err
	}
	go session.passed()
	return session, nil
}

// passed accepts the connections that the cage passes out.
func (s *Session) passed() {
	data, control := make([]byte, 1), make([]byte, unix.CmsgSpace(4))
	for {
		_, n, _, _, err := s.process.control.ReadMsgUnix(data, control)
		if err != nil {
			return
		}
		messages, err := unix.ParseSocketControlMessage(control[:n])
		if err != nil {
			continue
		}
		for _, m := range messages {
			fds, err := unix.ParseUnixRights(&m)
			if err != nil {
				continue
			}
			for _, fd := range fds {
				unix.CloseOnExec(fd)
				f := os.NewFile(uintptr(fd), "connection")
				conn, err := net.FileConn(f)
				f.Close()
				if err == nil {
					go s.way(conn)
				}
			}
		}
	}
}

// ask sends a request and reads the response. When the context ends, so does the session.
func (s *Session) ask(ctx context.Context, r apart.Request, content []byte,
	each func(apart.File, io.Reader) error) (apart.Response, error) {
	stop := context.AfterFunc(ctx, s.process.Kill)
	defer stop()
	ended := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		select {
		case <-s.process.Done():
		case <-time.After(time.Second):
		}
		if s.process.Starved() {
			return fmt.Errorf("%w: it exceeded its memory limit", ErrEnded)
		}
		return errors.Join(ErrEnded, s.process.Failure(), err)
	}
	if err := apart.SendFrame(s.process.In, r); err != nil {
		return apart.Response{}, ended(err)
	}
	if _, err := s.process.In.Write(content); err != nil {
		return apart.Response{}, ended(err)
	}
	for {
		var a apart.Response
		if err := apart.ReceiveFrame(s.process.Out, &a); err != nil {
			return apart.Response{}, ended(err)
		}
		switch {
		case a.File != nil:
			if err := each(*a.File, io.LimitReader(s.process.Out, a.File.Size)); err != nil {
				return apart.Response{}, err
			}
		case a.Error != "":
			return a, errors.New(a.Error)
		case a.End:
			return a, nil
		}
	}
}

// Put writes a new file; it creates folders.
func (s *Session) Put(ctx context.Context, f File) error {
	_, err := s.ask(ctx, apart.Request{Put: &apart.File{Path: f.Path, Executable: f.Executable,
		Size: int64(len(f.Content))}}, f.Content, nil)
	return err
}

// Run runs a command, and ends all its processes. exit is 0 for success, and 128 plus the signal if a signal
// ended it.
func (s *Session) Run(ctx context.Context, step Step) (exit int, err error) {
	var seen <-chan struct{}
	step.Mark, seen = s.output.expect()
	a, err := s.ask(ctx, apart.Request{Run: &step}, nil, nil)
	if err == nil {
		select {
		case <-seen:
		case <-s.process.Done():
		}
	}
	return a.Exit, err
}

// Starved reports whether the system ended a process for exceeding the session's memory.
func (s *Session) Starved() bool { return s.process.Starved() }

// Collect returns the regular files below a folder. each reports whether the content of a name is needed; more
// bytes than limit are an error.
func (s *Session) Collect(ctx context.Context, dir string, wanted func(path string) bool, limit int64) ([]File, error) {
	var out []File
	var total int64
	_, err := s.ask(ctx, apart.Request{Collect: dir}, nil, func(f apart.File, content io.Reader) error {
		if !wanted(f.Path) {
			_, err := io.Copy(io.Discard, content)
			return err
		}
		if total += f.Size; f.Size < 0 || total > limit {
			return fmt.Errorf("%w: more than %d MiB", ErrTooMuch, limit>>20)
		}
		text, err := io.ReadAll(content)
		out = append(out, File{Path: f.Path, Executable: f.Executable, Content: text})
		return err
	})
	return out, err
}

// ErrTooMuch reports that a session's files are more than was allowed.
var ErrTooMuch = errors.New("the files are too large")

// Close ends the session and all its processes.
func (s *Session) Close() {
	s.process.Kill()
	<-s.process.Done()
	s.process.Release()
}
