package e2e

import (
	"errors"
	"flag"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"

	"rudmar/server/api"
)

var floodFor = flag.Duration("flood", 8*time.Second, "how long the log is flooded by 500 lines a second")

const chatter = `import time

def run(call):
    until, n = time.monotonic() + call.event["for"], 0
    while time.monotonic() < until:
        for _ in range(25):
            print("line", n, "of a busy night at the gate by the weir, where nothing ever freezes", flush=True)
            n += 1
        time.sleep(0.05)
    return n
`

// TestFloodedLog follows a log to which a function writes 500 lines a second:
// the page has a steady number of nodes and of bytes, and no task of it is long.
func TestFloodedLog(t *testing.T) {
	r := demoAlone(t)
	dir := r.clone("wren")
	write := func(name, text string) {
		file := filepath.Join(dir, "frostline/functions/chatter", name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	write("function.yaml", "function: chatter\nhandler: chatter:run\ntimeout: 60s\n")
	write("chatter.py", chatter)
	pushMeanwhile(t, dir, "Chatter")
	r.settles(8, "trial")

	p := r.open(browse(t), "wren")
	p.arrive("functions/chatter/logs?stage=trial")
	p.must("counting", proto.PerformanceEnable{}.Call(p.page))
	p.watchTasks()
	metric := func(name string) float64 {
		all, err := proto.PerformanceGetMetrics{}.Call(p.page)
		p.must("counting", err)
		for _, m := range all.Metrics {
			if m.Name == name {
				return m.Value
			}
		}
		return 0
	}
	end := time.Now().Add(*floodFor)
	call := func() {
		seconds := min(30, time.Until(end).Seconds())
		r.ask("wren", "POST", base+"/stages/trial/functions/chatter/invocations", map[string]any{"target": "local/north",
			"event": map[string]any{"for": seconds}}, &api.Invocation{})
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for time.Until(end) > time.Second {
			call()
		}
	}()
	defer func() { <-done }()
	p.reads("of a busy night")
	busy, begun := metric("TaskDuration"), time.Now()
	nodes := p.page.MustEval(`() => document.querySelectorAll('*').length`).Int()
	for time.Now().Before(end) {
		p.must("drawing", p.page.WaitRepaint())
		most := p.page.MustEval(`() => new Promise((r) => setTimeout(() => r(document.querySelectorAll('*').length), 500))`).Int()
		if most > nodes+150 {
			t.Fatalf("the page has %d nodes, after %d", most, nodes)
		}
	}
	share := (metric("TaskDuration") - busy) / time.Since(begun).Seconds()
	p.must("collecting", proto.HeapProfilerCollectGarbage{}.Call(p.page))
	t.Logf("%.0f %% of a core in the page, %d nodes, %.1f MiB, tasks over 50 ms: %v", 100*share, nodes,
		metric("JSHeapUsedSize")/(1<<20), p.longTasks())
	if heap := metric("JSHeapUsedSize"); heap > 60<<20 {
		t.Errorf("the page holds %.0f MiB", heap/(1<<20))
	}
	// Earlier lines are there after scrolling up.
	p.page.MustEval(`() => { const box = document.querySelector('.lines'); box.scrollTop = box.scrollHeight / 2 }`)
	p.reads("Go to newest line")
}
