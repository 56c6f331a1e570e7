package local

import (
	"bytes"
	"errors"
	"os"
	"sync"
	"syscall"
	"time"
)

// output is a line that a process wrote.
type output struct {
	at     time.Time
	stream string
	text   string
}

const (
	// maxHeld is the maximum number of bytes kept of a process's output between invocations.
	maxHeld = 256 << 10
	// maxDrained bounds the reads at the end of an invocation: more than a pipe holds was written after the
	// response.
	maxDrained = 1 << 20
)

// outputs splits a process's streams into lines. A line belongs to the invocation in progress when it is read;
// output before a response is in the pipes at the end of the invocation, and is read before anything else
// happens. So the process needs no protocol for it.
type outputs struct {
	mu      sync.Mutex
	keep    func(output) // of the invocation in progress; nil between invocations
	held    []output     // written between invocations: logged with the next one
	bytes   int          // of held
	buffer  []byte
	streams []*stream
}

type stream struct {
	name string
	file *os.File
	raw  syscall.RawConn
	line []byte // a line without its end
}

// newOutputs allocates the buffer at once: an invocation can end before following has started.
func newOutputs() *outputs {
	return &outputs{buffer: make([]byte, 32<<10)}
}

// add adds a stream of a process.
func (o *outputs) add(name string, file *os.File) error {
	raw, err := file.SyscallConn()
	if err != nil {
		return err
	}
	o.streams = append(o.streams, &stream{name: name, file: file, raw: raw})
	return nil
}

// follow reads until the process has closed all its ends of the streams.
func (o *outputs) follow() {
	var all sync.WaitGroup
	for _, s := range o.streams {
		all.Go(func() {
			defer s.file.Close()
			for ended := false; !ended; {
				err := s.raw.Read(func(fd uintptr) bool {
					o.mu.Lock()
					defer o.mu.Unlock()
					var n int
					n, ended = o.read(s, fd)
					return n > 0 || ended // otherwise it waits for more
				})
				ended = ended || err != nil
			}
			o.mu.Lock()
			defer o.mu.Unlock()
			o.endLine(s)
		})
	}
	all.Wait()
}

// attach sends lines to a log from now on, earlier lines first.
func (o *outputs) attach(keep func(output)) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, line := range o.held {
		keep(line)
	}
	o.keep, o.held, o.bytes = keep, nil, 0
}

// detach ends that, after all output up to now was read.
func (o *outputs) detach() {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, s := range o.streams {
		_ = s.raw.Control(func(fd uintptr) { // a closed stream was read to its end
			for drained := 0; drained < maxDrained; {
				n, ended := o.read(s, fd)
				if drained += n; n == 0 || ended {
					return
				}
			}
		})
		o.endLine(s)
	}
	o.keep = nil
}

// read reads once, without waiting. The lock is held.
func (o *outputs) read(s *stream, fd uintptr) (n int, ended bool) {
	for {
		n, err := syscall.Read(int(fd), o.buffer)
		switch {
		case errors.Is(err, syscall.EINTR):
			continue
		case errors.Is(err, syscall.EAGAIN):
			return 0, false
		case err != nil || n == 0:
			return 0, true
		}
		o.split(s, o.buffer[:n])
		return n, false
	}
}

// split splits the data into lines. A long line becomes several.
func (o *outputs) split(s *stream, text []byte) {
	for len(text) > 0 {
		line, rest, ended := bytes.Cut(text, []byte("\n"))
		if room := maxLineBytes - len(s.line); len(line) > room {
			line, rest, ended = text[:room], text[room:], true
		}
		s.line, text = append(s.line, line...), rest
		if ended {
			o.tell(output{time.Now(), s.name, string(s.line)})
			s.line = s.line[:0]
		}
	}
}

func (o *outputs) endLine(s *stream) {
	if len(s.line) > 0 {
		o.tell(output{time.Now(), s.name, string(s.line)})
		s.line = s.line[:0]
	}
}

func (o *outputs) tell(line output) {
	if o.keep != nil {
		o.keep(line)
		return
	}
	if o.bytes += len(line.text); o.bytes <= maxHeld {
		o.held = append(o.held, line)
	}
}
