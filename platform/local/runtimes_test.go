package local_test

import (
	"bytes"
	"context"
	"golang.org/x/net/dns/dnsmessage"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"rudmar/platform/api"
	"rudmar/platform/local"
	"rudmar/platform/local/wasm"
	"rudmar/starter"
)

// TestMain lets the test program be the WebAssembly worker.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == local.WorkerCommand {
		if err := wasm.Work(context.Background(), os.NewFile(3, "calls"), os.NewFile(4, "answers")); err != nil {
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

func node(changes map[string]any) map[string]any {
	out := map[string]any{"runtime": "node"}
	for k, v := range changes {
		out[k] = v
	}
	return out
}

func TestInvokeNode(t *testing.T) {
	s := newStand(t)
	s.deployFile("warn", "main.mjs", []byte(`
import rudmar, { Refused } from 'rudmar'
let count = 0
export async function run(call) {
  console.log('looking at', call.event.station)
  console.error('careful')
  if (call.event.fail) throw new RangeError('no such station')
  if (call.event.hang) for (;;) {}
  if (call.event.eat) { const held = []; for (;;) held.push(Buffer.alloc(1 << 20, 1)) }
  if (call.event.stray) { setTimeout(() => { throw new TypeError('nobody awaits this') }, 1); await new Promise(() => {}) }
  await rudmar.table('stations').write('hill', { limit: 2 })
  let refused = ''
  try { await rudmar.table('others').read('x') } catch (error) { refused = error instanceof Refused ? error.message : 'otherwise' }
  return { count: ++count, place: process.env.PLACE, row: await rudmar.table('stations').read('hill'), none: await rudmar.table('stations').read('moon'), refused, left: call.remaining_ms() > 0, told: [call.function, call.version, call.stage, call.memory_limit >> 20, !!call.id].join(' ') }
}
`), node(map[string]any{"timeout": 3000.0}))
	s.put("grant/warn/tables/stations", map[string]any{"resource": "tables/stations", "verbs": []any{"read", "write"}})
	first := s.call("warn", map[string]any{"station": "hill"})
	answer, _ := first.Response.(map[string]any)
	if first.Outcome != api.Succeeded || !first.Cold || answer["count"] != 1.0 || answer["place"] != "orchard" ||
		answer["none"] != nil || answer["left"] != true || answer["told"] != "warn 3 trial 128 true" {
		t.Fatalf("%+v %+v", first, first.Error)
	}
	if row, _ := answer["row"].(map[string]any); row["limit"] != 2.0 {
		t.Errorf("the row: %v", answer["row"])
	}
	if text, _ := answer["refused"].(string); !strings.Contains(text, "cannot read tables/others") {
		t.Errorf("refused: %q", text)
	}
	said := map[string]string{}
	for _, l := range first.Logs {
		said[l.Text] = string(l.Stream)
	}
	if len(first.Logs) != 3 || said["looking at hill"] != "out" || said["careful"] != "err" {
		t.Errorf("logs: %+v", first.Logs)
	}
	s.goesOn(map[string]ending{"fail": {api.Failed, "RangeError"}, "stray": {api.Failed, "TypeError"}, "hang": {api.TimedOut, "TimedOut"},
		"eat": {api.OutOfMemory, "OutOfMemory"}})
}

// ending is how a call ends, and the kind of its error.
type ending struct {
	outcome api.InvocationOutcome
	kind    string
}

// goesOn calls warn a second time, then with events that end it in bad ways, and then as before.
func (s *stand) goesOn(bad map[string]ending) {
	s.Helper()
	hill := map[string]any{"station": "hill"}
	if again := s.call("warn", hill); again.Cold || again.Response.(map[string]any)["count"] != 2.0 || again.MemoryPeak < 1<<20 {
		s.Errorf("a warm call: %+v", again)
	}
	for event, want := range bad {
		got := s.call("warn", map[string]any{"station": "hill", event: true})
		if got.Outcome != want.outcome || got.Error == nil || got.Error.Kind != want.kind {
			s.Errorf("%s: %s %+v", event, got.Outcome, got.Error)
		}
	}
	if after := s.call("warn", hill); after.Outcome != api.Succeeded {
		s.Errorf("after all that: %+v", after)
	}
}

// An instance of Node that holds much of its limit when a call has ended is not used
// again: its next call would soon go over it. One that holds little is.
func TestNodeMemory(t *testing.T) {
	s := newStand(t)
	s.deployFile("warn", "main.mjs", []byte(`
let held = []
export async function run(call) {
  held.push(Buffer.alloc(call.event.mib << 20, 1))
  await new Promise((done) => setTimeout(done, 200)) // until it was looked at
  return held.length
}
`), node(map[string]any{"memory": 256.0 * (1 << 20)}))
	if answer := s.call("warn", map[string]any{"mib": 1}); answer.Response != 1.0 {
		t.Fatalf("%+v %+v", answer, answer.Error)
	}
	if answer := s.call("warn", map[string]any{"mib": 150}); answer.Response != 2.0 || answer.Cold {
		t.Errorf("what held little was not used again: %+v", answer)
	}
	if answer := s.call("warn", map[string]any{"mib": 1}); answer.Response != 1.0 || !answer.Cold {
		t.Errorf("what held much was used again: %+v", answer)
	}
}

// A process that does not even read its call is ended at the timeout, however
// large the call is, and the next call has another process.
func TestUnreadInput(t *testing.T) {
	s := newStand(t)
	s.deployFile("warn", "main.mjs", []byte(`export function run(call) {
  if (call.event.stick) setImmediate(() => { for (;;); })
  return (call.event.text ?? '').length
}
`), node(map[string]any{"timeout": 1500.0}))
	if inv := s.call("warn", map[string]any{"stick": true}); inv.Outcome != api.Succeeded {
		t.Fatalf("%+v %+v", inv, inv.Error)
	}
	large := map[string]any{"text": strings.Repeat("x", 1<<20)}
	if inv := s.call("warn", large); inv.Outcome != api.TimedOut {
		t.Errorf("a call that nobody reads: %s %+v", inv.Outcome, inv.Error)
	}
	if inv := s.call("warn", large); inv.Outcome != api.Succeeded || inv.Response != float64(1<<20) || !inv.Cold {
		t.Errorf("the next call: %s %v %+v", inv.Outcome, inv.Response, inv.Error)
	}
}

// compileGo makes a module as a build does.
func compileGo(t *testing.T, code string) []byte {
	t.Helper()
	dir := t.TempDir()
	files, err := starter.GoFiles()
	must(t, err)
	if files["worker.go"], err = starter.GoWorker("run"); err != nil {
		t.Fatal(err)
	}
	files["main.go"] = code
	files["rudmar_worker_wasip1.go"] = files["worker.go"]
	delete(files, "worker.go")
	for name, text := range files {
		must(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	cmd := exec.Command("go", "build", "-buildmode=c-shared", "-trimpath", "-buildvcs=false",
		"-ldflags=-s -w -buildid=", "-o", "main.wasm", ".")
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "GOOS=wasip1", "GOARCH=wasm", "GOFLAGS=-mod=mod")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	module, err := os.ReadFile(filepath.Join(dir, "main.wasm"))
	must(t, err)
	return module
}

func TestInvokeGo(t *testing.T) {
	s := newStand(t)
	module := compileGo(t, `package main

import (
	"errors"
	"fmt"
	"os"
)

var count int
var held [][]byte

func run(call *Call) (any, error) {
	fmt.Println("looking at", call.Event["station"])
	fmt.Fprintln(os.Stderr, "careful")
	switch {
	case call.Event["fail"] == true:
		return nil, errors.New("no such station")
	case call.Event["panic"] == true:
		panic("everything is lost")
	case call.Event["hang"] == true:
		for {
		}
	case call.Event["eat"] == true:
		for {
			held = append(held, make([]byte, 1<<20))
		}
	}
	count++
	if err := WriteRow("stations", "hill", map[string]any{"limit": 2}); err != nil {
		return nil, err
	}
	var row map[string]any
	if err := ReadRow("stations", "hill", &row); err != nil {
		return nil, err
	}
	var none map[string]any
	return map[string]any{"count": count, "place": os.Getenv("PLACE"), "row": row,
		"none": errors.Is(ReadRow("stations", "moon", &none), ErrNone), "refused": errors.Is(ReadRow("others", "x", &none), ErrDenied), "left": call.RemainingMS() > 0,
		"told": fmt.Sprint(call.Function, " ", call.Version, " ", call.Stage, " ", call.MemoryLimit>>20, " ", call.ID != "")}, nil
}
`)
	s.deployFile("warn", wasm.File, module, map[string]any{"runtime": "go", "timeout": 8000.0})
	s.put("grant/warn/tables/stations", map[string]any{"resource": "tables/stations", "verbs": []any{"read", "write"}})
	first := s.call("warn", map[string]any{"station": "hill"})
	answer, _ := first.Response.(map[string]any)
	if first.Outcome != api.Succeeded || !first.Cold || answer["count"] != 1.0 || answer["place"] != "orchard" ||
		answer["none"] != true || answer["refused"] != true || answer["left"] != true ||
		answer["told"] != "warn 3 trial 128 true" {
		t.Fatalf("%+v %+v", first, first.Error)
	}
	s.goesOn(map[string]ending{"fail": {api.Failed, "*errors.errorString"}, "panic": {api.Failed, "panic"}, "hang": {api.TimedOut, "TimedOut"},
		"eat": {api.OutOfMemory, "OutOfMemory"}})
}

// Answers of calls concurrently are not mixed up, whatever the runtime.
func TestParallelInvocations(t *testing.T) {
	s := newStand(t)
	s.deployFile("echo", "main.mjs",
		[]byte("export const run = async (call) => { console.log(call.event.n); await new Promise((r) => setTimeout(r, call.event.n % 7)); return call.event.n }\n"), node(map[string]any{"max_concurrency": 20.0}))
	var group sync.WaitGroup
	for caller := range 10 {
		group.Add(1)
		go func() {
			defer group.Done()
			for i := range 20 {
				n := float64(caller*100 + i)
				inv := s.call("echo", map[string]any{"n": n})
				if inv.Response != n || len(inv.Logs) != 2 {
					t.Errorf("%v was answered %v, %+v", n, inv.Response, inv.Logs)
				}
			}
		}()
	}
	group.Wait()
}

// Functions have no network, unless they declare it; then they reach outside addresses, and nothing on this
// machine.
func TestNetworkAccess(t *testing.T) {
	asked := make(chan string, 10)
	s := newStandWith(t, func(o *local.Options) {
		o.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			if network == "udp" {
				return nameServer(map[string][4]byte{"api.example.com.": {203, 0, 113, 7}, "other.example.com.": {203, 0, 113, 8}}), nil
			}
			asked <- address
			ours, theirs := net.Pipe() // an outside server, which responds in capitals
			go func() {
				buffer := make([]byte, 100)
				n, _ := theirs.Read(buffer)
				_, _ = theirs.Write(bytes.ToUpper(buffer[:n]))
				theirs.Close()
			}()
			return ours, nil
		}
	})
	code := `
import socket
def run(call):
    try:
        with socket.create_connection((call.event['host'], call.event['port']), timeout=5) as c:
            c.sendall(b'hello')
            return c.recv(100).decode()
    except OSError as error:
        return type(error).__name__
`
	s.deploy("closed", code, nil)
	s.deploy("open", code, map[string]any{"network": true})
	port := float64(s.protocol.Listener.Addr().(*net.TCPAddr).Port)
	if inv := s.call("open", map[string]any{"host": "203.0.113.7", "port": 4000.0}); inv.Response != "HELLO" ||
		<-asked != "203.0.113.7:4000" {
		t.Errorf("outside: %+v %+v", inv.Response, inv.Error)
	}
	own := "127.0.0.1"
	addresses, err := net.InterfaceAddrs()
	must(t, err)
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && n.IP.To4() != nil && !n.IP.IsLoopback() {
			own = n.IP.String()
		}
	}
	for _, host := range []string{"127.0.0.1", own, "169.254.169.254", "0.0.0.0"} {
		inv := s.call("open", map[string]any{"host": host, "port": port})
		if inv.Response == "HELLO" || inv.Response == nil || len(asked) > 0 {
			t.Errorf("%s was reached: %+v %+v", host, inv.Response, inv.Error)
		}
	}
	if inv := s.call("closed", map[string]any{"host": "203.0.113.7", "port": 4000.0}); inv.Response != "OSError" ||
		len(asked) > 0 {
		t.Errorf("without a network: %+v %+v", inv.Response, inv.Error)
	}
	// With destinations it reaches only those: names by what the name server returns, and only at their ports.
	s.deploy("named", code, map[string]any{"network": true, "network_to": []any{"api.example.com:4000", "203.0.113.9:443", "localhost:4000"}})
	for _, tt := range []struct {
		host    string
		port    float64
		reached string // "" for none
	}{
		{"api.example.com", 4000, "203.0.113.7:4000"}, {"API.example.com.", 4000, "203.0.113.7:4000"}, {"203.0.113.9", 443, "203.0.113.9:443"},
		{"api.example.com", 4001, ""}, {"other.example.com", 4000, ""}, {"203.0.113.8", 4000, ""}, {"203.0.113.9", 4000, ""},
		{"localhost", 4000, ""}, {"10.0.2.2", 53, ""},
	} {
		inv := s.call("named", map[string]any{"host": tt.host, "port": tt.port})
		if (inv.Response == "HELLO") != (tt.reached != "") || tt.reached != "" && <-asked != tt.reached || len(asked) > 0 {
			t.Errorf("%s port %v: %+v %+v", tt.host, tt.port, inv.Response, inv.Error)
		}
	}
	for _, host := range []string{"api.example.com", "other.example.com"} { // without destinations both are reached
		if inv := s.call("open", map[string]any{"host": host, "port": 4000.0}); inv.Response != "HELLO" || !strings.HasPrefix(<-asked, "203.0.113.") {
			t.Errorf("%s: %+v %+v", host, inv.Response, inv.Error)
		}
	}
}

// nameServer is a connection to a name server that knows some names.
func nameServer(known map[string][4]byte) net.Conn {
	ours, theirs := net.Pipe()
	go func() {
		defer theirs.Close()
		buffer := make([]byte, 2000)
		for {
			n, err := theirs.Read(buffer)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(buffer[:n]) != nil || len(m.Questions) == 0 {
				return
			}
			m.Response, m.RecursionAvailable, m.Additionals = true, true, nil
			q := m.Questions[0]
			if a, ok := known[strings.ToLower(q.Name.String())]; ok && q.Type == dnsmessage.TypeA {
				m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 60},
					Body: &dnsmessage.AResource{A: a}}}
			}
			out, err := m.Pack()
			if err != nil {
				return
			}
			if _, err := theirs.Write(out); err != nil {
				return
			}
		}
	}()
	return ours
}
