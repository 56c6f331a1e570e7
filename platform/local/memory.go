package local

import (
	"bytes"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// memoryWatch looks at a process every few milliseconds, and calls over when
// it holds more than its limit.
type memoryWatch struct {
	// Held open: a call would otherwise open both anew.
	clear, status *os.File
	now           atomic.Int64 // bytes, at the last look
	quit          chan struct{}
	once          sync.Once
}

func watchMemory(pid int, limit int64, over func()) *memoryWatch {
	w := &memoryWatch{quit: make(chan struct{})}
	proc := "/proc/" + strconv.Itoa(pid)
	file, err := os.Open(proc + "/statm")
	if err != nil {
		return w // gone already
	}
	w.status, _ = os.Open(proc + "/status") // without it there is no peak
	w.clear, _ = os.OpenFile(proc+"/clear_refs", os.O_WRONLY, 0)
	go func() {
		defer file.Close()
		tick := time.NewTicker(5 * time.Millisecond)
		defer tick.Stop()
		page := int64(os.Getpagesize())
		buffer := make([]byte, 128)
		for {
			select {
			case <-w.quit:
				return
			case <-tick.C:
			}
			n, err := file.ReadAt(buffer, 0)
			fields := bytes.Fields(buffer[:n])
			if len(fields) < 3 {
				if err != nil {
					return
				}
				continue
			}
			resident, _ := strconv.ParseInt(string(fields[1]), 10, 64)
			shared, _ := strconv.ParseInt(string(fields[2]), 10, 64)
			w.now.Store((resident - shared) * page)
			if w.now.Load() > limit {
				over()
				return
			}
		}
	}()
	return w
}

// held gives what the process held at the last look, in bytes.
func (w *memoryWatch) held() int64 { return w.now.Load() }

func (w *memoryWatch) stop() {
	w.once.Do(func() {
		close(w.quit)
		for _, f := range []*os.File{w.clear, w.status} {
			if f != nil {
				f.Close()
			}
		}
	})
}

// reset forgets the peak, so that the next one is that of the next call.
func (w *memoryWatch) reset() {
	if w.clear != nil {
		_, _ = w.clear.WriteAt([]byte("5"), 0) // without it the peak is that of the instance
	}
}

// peak gives the highest resident size since reset, in bytes.
func (w *memoryWatch) peak() int64 {
	if w.status == nil {
		return 0
	}
	text := make([]byte, 2048)
	n, _ := w.status.ReadAt(text, 0) // what was read tells enough
	_, rest, _ := bytes.Cut(text[:n], []byte("VmHWM:"))
	fields := bytes.Fields(rest[:min(len(rest), 40)])
	if len(fields) == 0 {
		return 0
	}
	kib, _ := strconv.ParseInt(string(fields[0]), 10, 64)
	return kib << 10
}
