package local_test

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform"
	"rudmar/platform/local"
)

// bench is a platform with one function, echo, behind a route and a client.
type bench struct {
	client *platform.Client
	scope  platform.Scope
	route  string
}

const echoCode = "def run(call):\n    return {'same': (call.event.get('body') or {}).get('n')}\n"

func newBench(b *testing.B, atOnce float64) *bench {
	b.Helper()
	var p *local.Platform
	protocol := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Protocol().ServeHTTP(w, r) }))
	routes := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Routes().ServeHTTP(w, r) }))
	var err error
	if p, err = local.Open(b.Context(),
		local.Options{Dir: b.TempDir(), Token: "secret", RoutesAt: routes.URL, DataAt: protocol.URL,
			Log: slog.New(slog.DiscardHandler)}); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		protocol.Close()
		routes.Close()
		if err := p.Close(); err != nil {
			b.Error(err)
		}
	})
	k := &bench{scope: platform.Scope{Region: "north", Service: "frostline", Stage: "trial"},
		route: routes.URL + "/north/frostline/trial/echo"}
	if k.client, err = platform.NewClient(protocol.URL, "secret"); err != nil {
		b.Fatal(err)
	}
	entries := []pack.Entry{{Path: "main.py", Content: []byte(echoCode)}}
	listing, err := pack.List(entries)
	must(b, err)
	var archive bytes.Buffer
	must(b, pack.Write(&archive, entries))
	must(b, k.client.PutArtifact(b.Context(), listing.Digest(), archive.Bytes()))
	config := map[string]any{"runtime": "python", "handler": "main:run", "memory": 128.0 * (1 << 20),
		"timeout": 30_000.0, "max_concurrency": atOnce}
	configuration := resource.Configuration(config)
	id := resource.RevisionID(listing.Digest(), configuration)
	for i, r := range []struct {
		address    string
		attributes map[string]any
	}{
		{"identity/echo", map[string]any{"owner": "x"}}, {"logs/echo", map[string]any{"retention": 86_400_000.0}},
		{"function/echo", config},
		{"revision/echo", map[string]any{"artifact": listing.Digest(), "configuration": configuration, "id": id}},
		{"pointer/echo", map[string]any{"shares": map[string]any{id: 100.0}}},
		{"opening/echo/ask", map[string]any{"to": []any{"anyone"}}},
		{"route/echo/ask", map[string]any{"method": "POST", "path": "/echo", "enabled": true}},
	} {
		if _, err := k.client.Put(b.Context(), k.scope, r.address,
			platform.Change{Key: fmt.Sprint("b", i), Attributes: r.attributes, Version: 1}); err != nil {
			b.Fatal(r.address, err)
		}
	}
	return k
}

func post(address string, n int) (int, error) {
	response, err := http.Post(address, "application/json", bytes.NewReader(fmt.Appendf(nil, `{"n": %d}`, n)))
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	var out struct{ Same int }
	text, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode != 200 {
		err = fmt.Errorf("%d %s", response.StatusCode, text)
	}
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out.Same, err
}

// bare is the same interpreter with the same handler, over a pipe.
type bare struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	out *bufio.Reader
}

const bareCode = `
import json, struct, sys
sys.path.insert(0, sys.argv[1])
import main
class Call: pass
while True:
    head = sys.stdin.buffer.read(4)
    if not head: break
    call = Call(); call.event = json.loads(sys.stdin.buffer.read(struct.unpack(">I", head)[0]))
    body = json.dumps(main.run(call)).encode()
    sys.stdout.buffer.write(struct.pack(">I", len(body)) + body); sys.stdout.buffer.flush()
`

func startBare(b *testing.B, dir string) *bare {
	b.Helper()
	p := &bare{cmd: exec.Command("/usr/bin/python3", "-I", "-S", "-c", bareCode, dir)}
	var err error
	if p.in, err = p.cmd.StdinPipe(); err != nil {
		b.Fatal(err)
	}
	out, err := p.cmd.StdoutPipe()
	must(b, err)
	p.out = bufio.NewReader(out)
	must(b, p.cmd.Start())
	return p
}

func (p *bare) call(b *testing.B, body string) {
	b.Helper()
	if _, err := p.in.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...)); err != nil {
		b.Fatal(err)
	}
	var head [4]byte
	if _, err := io.ReadFull(p.out, head[:]); err != nil {
		b.Fatal(err)
	}
	if _, err := io.CopyN(io.Discard, p.out, int64(binary.BigEndian.Uint32(head[:]))); err != nil {
		b.Fatal(err)
	}
}

func (p *bare) end() {
	p.in.Close()
	_ = p.cmd.Wait() // it ends when its input does
}

// BenchmarkWarmCall reports the duration of a warm invocation through a route, as a multiple of a bare round
// trip to the same interpreter over a pipe plus an empty Echo handler.
func BenchmarkWarmCall(b *testing.B) {
	k := newBench(b, 10)
	dir := b.TempDir()
	must(b, os.WriteFile(filepath.Join(dir, "main.py"), []byte(echoCode), 0o600))
	p := startBare(b, dir)
	defer p.end()
	e := echo.New()
	e.POST("/echo", func(c *echo.Context) error {
		_, err := io.Copy(io.Discard, c.Request().Body)
		return errorsOr(err, c.JSON(200, map[string]int{"same": 1}))
	})
	empty := httptest.NewServer(e)
	defer empty.Close()
	const calls = 300
	var ours, floor time.Duration
	for range 20 { // all of it warm
		if _, err := post(k.route, 1); err != nil {
			b.Fatal(err)
		}
		p.call(b, `{"body": {"n": 1}}`)
	}
	for b.Loop() {
		begun := time.Now()
		for n := range calls {
			if same, err := post(k.route, n); err != nil || same != n {
				b.Fatal(same, n, err)
			}
		}
		ours += time.Since(begun)
		begun = time.Now()
		for range calls {
			p.call(b, `{"body": {"n": 1}}`)
			if _, err := post(empty.URL+"/echo", 1); err != nil {
				b.Fatal(err)
			}
		}
		floor += time.Since(begun)
	}
	b.ReportMetric(float64(ours)/float64(floor), "x-floor")
	b.ReportMetric(float64(ours.Microseconds())/float64(b.N)/calls, "us-invocation")
	b.ReportMetric(float64(floor.Microseconds())/float64(b.N)/calls, "us-floor")
}

func errorsOr(first, second error) error {
	if first != nil {
		return first
	}
	return second
}

// BenchmarkColdStart reports the duration of a cold start, as a multiple of starting the same interpreter with
// the same handler directly.
func BenchmarkColdStart(b *testing.B) {
	k := newBench(b, 10)
	dir := b.TempDir()
	must(b, os.WriteFile(filepath.Join(dir, "main.py"), []byte(echoCode), 0o600))
	var ours, floor time.Duration
	const starts = 10
	for b.Loop() {
		for i := range starts {
			// Another configuration is another revision, which has no warm instance.
			config := map[string]any{"runtime": "python", "handler": "main:run", "memory": 128.0 * (1 << 20),
				"timeout": 30_000.0, "max_concurrency": 10.0, "env.N": fmt.Sprint(b.N, i, time.Now().UnixNano())}
			k.revise(b, config)
			inv, err := k.client.Invoke(b.Context(), k.scope, "echo", "", "", map[string]any{"body": map[string]any{"n": 1}}, time.Minute)
			if err != nil || !inv.Cold || inv.Error != nil {
				b.Fatal(err, inv)
			}
			ours += time.Duration(inv.ColdStartMs * float64(time.Millisecond))
			begun := time.Now()
			p := startBare(b, dir)
			p.call(b, `{"body": {"n": 1}}`)
			floor += time.Since(begun)
			p.end()
		}
	}
	b.ReportMetric(float64(ours)/float64(floor), "x-plain-process")
}

func (k *bench) revise(b *testing.B, config map[string]any) {
	b.Helper()
	s, err := k.client.Snapshot(b.Context(), k.scope)
	must(b, err)
	artifact := ""
	for _, r := range s.Resources {
		if r.Address == "revision/echo" {
			artifact, _ = r.Attributes["artifact"].(string)
		}
	}
	configuration := resource.Configuration(config)
	id := resource.RevisionID(artifact, configuration)
	for _, r := range []struct {
		address    string
		attributes map[string]any
	}{{"function/echo", config},
		{"revision/echo", map[string]any{"artifact": artifact, "configuration": configuration, "id": id}},
		{"pointer/echo", map[string]any{"shares": map[string]any{id: 100.0}}}} {
		if _, err := k.client.Put(b.Context(), k.scope, r.address,
			platform.Change{Key: id + r.address, Attributes: r.attributes, Version: 1, Replace: strings.HasPrefix(r.address, "revision/")}); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkManyCallers has 200 callers call one function for 30 seconds, or one
// in a short run, and fails if a response is lost, duplicated or mixed up.
func BenchmarkManyCallers(b *testing.B) {
	k := newBench(b, 400)
	seconds := 30
	if testing.Short() {
		seconds = 1
	}
	for b.Loop() {
		until := time.Now().Add(time.Duration(seconds) * time.Second)
		var group sync.WaitGroup
		var mu sync.Mutex
		calls := 0
		for caller := range 200 {
			group.Add(1)
			go func() {
				defer group.Done()
				for i := 0; time.Now().Before(until); i++ {
					n := caller*1_000_000 + i
					same, err := post(k.route, n)
					mu.Lock()
					calls++
					mu.Unlock()
					if err != nil || same != n {
						b.Errorf("%d was answered %d, %v", n, same, err)
						return
					}
				}
			}()
		}
		group.Wait()
		b.ReportMetric(float64(calls)/float64(seconds), "invocations/s")
	}
}
