package local_test

import (
	"fmt"
	"os"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
)

// longest is the time limit of a test, of which the slowest takes seconds.
const longest = 3 * time.Minute

// tellStuck ends the process if a test exceeds its limit, and prints the work in progress, one line each: stuck
// work would also keep its server from closing.
func tellStuck(t *testing.T) {
	timer := time.AfterFunc(longest, func() {
		all := make([]byte, 8<<20)
		for _, line := range stuck(string(all[:runtime.Stack(all, true)])) {
			fmt.Println(line)
		}
		load, _ := os.ReadFile("/proc/loadavg")
		fmt.Printf("FAIL: %s takes more than %s; the load is %s", t.Name(), longest, load)
		os.Exit(1)
	})
	t.Cleanup(func() { timer.Stop() })
}

// stuck returns, from goroutine stacks, the requests, their callers, and waits for locks, databases or process
// starts, with the place of each wait. Readers of a process's output always wait.
func stuck(stacks string) []string {
	head := regexp.MustCompile(`^goroutine \d+ .*\[(.*)\]:\n(\S+)\(`)
	ours := regexp.MustCompile(`\n(rudmar/\S+)\(.*\n\t.*/(\S+:\d+)`)
	work := regexp.MustCompile(`\(\*(conn\)\.serve|Client\)\.do)\(|\nsync\.|\ndatabase/sql\.|\nsyscall\.forkExec`)
	reads := regexp.MustCompile(`\(\*outputs\)\.follow`)
	var out []string
	for s := range strings.SplitSeq(stacks, "\n\n") {
		in, by := head.FindStringSubmatch(s), ours.FindStringSubmatch(s)
		if in != nil && by != nil && work.MatchString(s) && !reads.MatchString(s) {
			out = append(out, fmt.Sprintf("%s in %s by %s at %s", in[1], in[2], by[1], by[2]))
		}
	}
	return out
}

func TestStuckWorkIsReported(t *testing.T) {
	const stacks = "goroutine 1 [select]:\nmain.main()\n\t/x/main.go:3 +0x1\n\n" +
		"goroutine 7 gp=0x1 [sync.Mutex.Lock, 28 minutes]:\nsync.(*Mutex).Lock(0xc0)\n\t/go/mutex.go:46\n" +
		"rudmar/platform/local.(*pool).warm(0x1, {0x2})\n\t/work/platform/local/pool.go:81 +0x1\n\n" +
		"goroutine 8 [select]:\nrudmar/platform/local.(*pool).run(0x1)\n\t/work/pool.go:3 +0x1\n\n" +
		"goroutine 9 [select, 28 minutes]:\nnet/http.(*Server).Serve(0x1)\n\t/go/server.go:1 +0x1\n\n" +
		"goroutine 10 [select, 28 minutes]:\nnet/http.(*persistConn).roundTrip(0x1)\n\t/go/transport.go:1 +0x1\n" +
		"net/http.(*Client).do(0x1)\n\t/go/client.go:1 +0x1\n" +
		"rudmar/platform/local_test.(*stand).sent(0x1)\n\t/work/platform/local/live_test.go:264 +0x1\n\n" +
		"goroutine 11 [sync.WaitGroup.Wait]:\nsync.(*WaitGroup).Wait(0x1)\n\t/go/waitgroup.go:1 +0x1\n" +
		"rudmar/platform/local.(*outputs).follow(0x1)\n\t/work/platform/local/output.go:84 +0x1\n"
	want := []string{
		"sync.Mutex.Lock, 28 minutes in sync.(*Mutex).Lock by rudmar/platform/local.(*pool).warm at pool.go:81",
		"select, 28 minutes in net/http.(*persistConn).roundTrip by rudmar/platform/local_test.(*stand).sent at live_test.go:264",
	}
	if told := stuck(stacks); !slices.Equal(told, want) {
		t.Errorf("%q", told)
	}
}
