package cage_test

import (
	"io"
	"os"
	"runtime"
	"testing"
	"time"
)

// A network's device is closed with it, and its descriptor number is reused: nobody then reads another file.
func TestProxyEndsWithItsCommand(t *testing.T) {
	k := keeper(t, 0)
	open := shell("exit 0")
	open.Network = true
	type pipe struct{ from, to *os.File }
	var pipes []pipe
	before := descriptors(t)
	for range 30 {
		if out, how := ran(t, k, open); how != "exit status 0" {
			t.Fatal(how, out)
		}
		for range 10 {
			from, to, err := os.Pipe()
			if err != nil {
				t.Fatal(err)
			}
			defer from.Close()
			defer to.Close()
			pipes = append(pipes, pipe{from, to})
		}
	}
	for begun := time.Now(); descriptors(t) > before+2*len(pipes); runtime.Gosched() { // the system closes them with a delay
		if time.Since(begun) > 30*time.Second {
			t.Fatalf("%d descriptors are open, %d of them pipes; %d were before", descriptors(t), 2*len(pipes), before)
		}
	}
	const text = "a letter after the other, each of which has to come"
	for i, p := range pipes {
		if err := p.from.SetReadDeadline(time.Now().Add(10 * time.Second)); err != nil {
			t.Fatal(err)
		}
		read := make(chan string, 1)
		go func() {
			b := make([]byte, len(text))
			n, _ := io.ReadFull(p.from, b)
			read <- string(b[:n])
		}()
		for _, letter := range []byte(text) {
			if _, err := p.to.Write([]byte{letter}); err != nil {
				t.Fatal(err)
			}
		}
		if got := <-read; got != text {
			t.Fatalf("of pipe %d (descriptor %d) came %q", i, p.from.Fd(), got)
		}
	}
}

// descriptors counts the files that this program has open.
func descriptors(t *testing.T) int {
	t.Helper()
	open, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Fatal(err)
	}
	return len(open)
}
