package local

import (
	"bytes"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"rudmar/cage"
)

// memoryWatch measures a process every few milliseconds, and calls over when it exceeds its limit.
type memoryWatch struct {
	// Kept open, because each invocation reads both.
	clear, status *os.File
	now           atomic.Int64 // bytes, at the last read
	quit          chan struct{}
	tick          *time.Ticker
	once          sync.Once
	resetting     sync.WaitGroup
	text          [2048]byte // of status; invocations are sequential
}

// lookEvery is the maximum time until an exceeded limit is noticed.
const lookEvery = 5 * time.Millisecond

// lookAtRest is the interval of measurements of a paused process.
const lookAtRest = time.Second

func watchMemory(c *cage.Process, limit int64, over func()) *memoryWatch {
	w := &memoryWatch{quit: make(chan struct{}), tick: time.NewTicker(lookEvery)}
	proc := "/proc/" + strconv.Itoa(c.Pid())
	file, err := os.Open(proc + "/statm")
	if err != nil {
		w.tick.Stop()
		return w // ended already
	}
	w.status, _ = os.Open(proc + "/status") // without it there is no peak
	w.clear, _ = os.OpenFile(proc+"/clear_refs", os.O_WRONLY, 0)
	held := func() (int64, bool) { return heldByOne(file) }
	if !c.Limited() { // memory held on its behalf is added here, if the system does not count it
		held = func() (int64, bool) { return heldByAll(c.Processes()), true }
	}
	go func() {
		defer file.Close()
		defer w.tick.Stop()
		for {
			select {
			case <-w.quit:
				return
			case <-w.tick.C:
			}
			now, there := held()
			if !there {
				return
			}
			w.now.Store(now)
			if now > limit {
				over()
				return
			}
		}
	}()
	return w
}

// heldByOne returns a process's own memory, in bytes; false if it has ended.
func heldByOne(statm *os.File) (int64, bool) {
	var buffer [128]byte
	n, err := statm.ReadAt(buffer[:], 0)
	fields := bytes.Fields(buffer[:n])
	if len(fields) < 3 {
		return 0, err == nil
	}
	resident, _ := strconv.ParseInt(string(fields[1]), 10, 64)
	shared, _ := strconv.ParseInt(string(fields[2]), 10, 64)
	return (resident - shared) * int64(os.Getpagesize()), true
}

// heldByAll returns the memory of several processes, with shared memory.
func heldByAll(pids []int) int64 {
	var sum int64
	for _, pid := range pids {
		text, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status") // an ended process holds nothing
		sum += kibOf(text, "RssAnon:") + kibOf(text, "RssShmem:")
	}
	return sum << 10
}

// slow reduces the interval, while the process is paused.
func (w *memoryWatch) slow() { w.tick.Reset(lookAtRest) }

// fast restores the interval of an invocation.
func (w *memoryWatch) fast() { w.tick.Reset(lookEvery) }

// held returns the process's memory at the last measurement, in bytes.
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

// reset resets the peak, so the next one is that of the next invocation.
func (w *memoryWatch) reset() {
	if w.clear != nil {
		_, _ = w.clear.WriteAt([]byte("5"), 0) // without it the peak is that of the instance
	}
}

// resetSoon resets concurrently; the next invocation starts after awaitReset.
func (w *memoryWatch) resetSoon() { w.resetting.Go(w.reset) }

func (w *memoryWatch) awaitReset() { w.resetting.Wait() }

// nearPeak is the distance from the peak below which it is not reset: a reset costs more than a small
// invocation.
const nearPeak = 256 << 10

// peak returns the highest resident size since reset, in bytes, and whether it must be reset for the next
// invocation.
func (w *memoryWatch) peak() (bytes int64, old bool) {
	if w.status == nil {
		return 0, false
	}
	n, _ := w.status.ReadAt(w.text[:], 0) // the part that was read is enough
	high, now := kibOf(w.text[:n], "VmHWM:"), kibOf(w.text[:n], "VmRSS:")
	return high << 10, (high-now)<<10 > nearPeak
}

func kibOf(text []byte, name string) int64 {
	_, rest, _ := bytes.Cut(text, []byte(name))
	number, _, _ := bytes.Cut(bytes.TrimLeft(rest, " \t"), []byte(" "))
	kib, _ := strconv.ParseInt(string(number), 10, 64)
	return kib
}
