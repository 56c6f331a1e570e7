package e2e

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os/exec"
	"slices"
	"sync"
	"testing"
	"time"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform"
	wire "rudmar/platform/api"
	"rudmar/platform/conform"
)

// kills is how often the platform is killed.
var kills = flag.Int("kills", 40, "how often the platform is killed")

// accepted has the items that a platform accepted.
type accepted struct {
	mu        sync.Mutex
	messages  map[int]bool
	objects   map[string]bool
	rows      map[string]bool
	resources map[string]string // address → owner
	// operations has the name of each operation's resource.
	operations map[string]string
	calls      map[string]logged
	old        int // log lines that had to be there
	changes    int // operations that had to end
}

// logged is when a call was answered, in which of the platform's lives.
type logged struct {
	round int
	at    time.Time
}

// written is the age of invocations whose log lines must exist: on a busy machine they are written some time
// after the fifth of a second for which they are collected.
const written = 3 * time.Second

// A platform killed at any moment loses no accepted message, object, row, resource or change, and no log line
// that had time to be written.
func TestKilledPlatformLosesNothing(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	scope := platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}
	took := &accepted{messages: map[int]bool{}, objects: map[string]bool{}, rows: map[string]bool{},
		resources: map[string]string{}, operations: map[string]string{}, calls: map[string]logged{}}
	var killed []time.Time // by round
	random := rand.New(rand.NewPCG(4, 2))
	for round := range *kills {
		r, client := startPlatform(t, data)
		if round == 0 {
			deployKeeper(t, client, scope)
		}
		stop := make(chan struct{})
		var group sync.WaitGroup
		for worker := range 3 {
			group.Add(1)
			go func() {
				defer group.Done()
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					default:
						took.one(t, r, client, scope, round, round*100_000+worker*10_000+i)
					}
				}
			}()
		}
		life := time.Duration(20+random.IntN(250)) * time.Millisecond
		alive := time.NewTimer(life)
		<-alive.C // how long it lives is the point of the test
		if round%20 == 7 {
			until(t, "a call's log line had its time", func() bool { return took.olderThan(round, written+100*time.Millisecond) })
		}
		killed = append(killed, time.Now())
		r.kill()
		close(stop)
		group.Wait()
		if round%10 == 9 || round == *kills-1 {
			again, client := startPlatform(t, data)
			took.all(t, again, client, scope, killed)
			again.kill()
		}
	}
	if len(took.messages) < *kills || len(took.objects) < *kills || len(took.rows) < *kills/4 || took.old == 0 ||
		len(took.resources) < *kills || took.changes < *kills {
		t.Errorf("too little was taken to tell: %d messages, %d objects, %d rows, %d resources, %d changes",
			len(took.messages), len(took.objects), len(took.rows), len(took.resources), took.changes)
	}
}

// olderThan reports whether a call of a life was answered so long ago.
func (a *accepted) olderThan(round int, age time.Duration) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, call := range a.calls {
		if call.round == round && time.Since(call.at) > age {
			return true
		}
	}
	return false
}

func startPlatform(t *testing.T, data string) (*rig, *platform.Client) {
	t.Helper()
	r := &rig{T: t, data: data, log: &told{}}
	r.address = freeAddress(t)
	r.cmd = exec.Command(build(t), "platform", "--data", data, "--platform-listen", r.address, "--routes-listen",
		"127.0.0.2:0", "--platform-token-file", tokenFile(t, "secret"))
	r.cmd.Stderr = r.log
	if err := r.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	client, err := platform.NewClient("http://"+r.address, "secret")
	if err != nil {
		t.Fatal(err)
	}
	limit := time.Now().Add(3 * time.Minute)
	for {
		if _, err := client.Kinds(t.Context()); err == nil {
			return r, client
		} else if time.Now().After(limit) {
			t.Fatalf("it does not answer: %v\n%s", err, r.log)
		}
		time.Sleep(5 * time.Millisecond) // interval of checks of a condition
	}
}

// platformAsk sends a request to the platform, with alternating header names and values.
func (r *rig) platformAsk(method, path string, body any, headers ...string) (int, []byte) {
	text, _ := json.Marshal(body)
	all := map[string]string{"Authorization": "Bearer secret", "Content-Type": "application/json"}
	for pair := range slices.Chunk(headers, 2) {
		all[pair[0]] = pair[1]
	}
	return answers(&rig{T: r.T, address: "http://" + r.address}, method, path, bytes.NewReader(text), all)
}

// keeperCode writes rows and returns them.
const keeperCode = `
import rudmar
def run(call):
    if "keep" in call.event:
        rudmar.table("kept").write(call.event["keep"], 1)
        print("kept", call.event["keep"])
        return call.id
    found = [rudmar.objects("kept").read(k) is not None for k in call.event["objects"]]
    return {"rows": [rudmar.table("kept").read(k) for k in call.event["rows"]], "objects": found}
`

func deployKeeper(t *testing.T, client *platform.Client, scope platform.Scope) {
	t.Helper()
	entries := []pack.Entry{{Path: "main.py", Content: []byte(keeperCode)}}
	listing, err := pack.List(entries)
	if err != nil {
		t.Fatal(err)
	}
	var archive bytes.Buffer
	if err := pack.Write(&archive, entries); err != nil {
		t.Fatal(err)
	}
	if err := client.PutArtifact(t.Context(), listing.Digest(), archive.Bytes()); err != nil {
		t.Fatal(err)
	}
	config := map[string]any{"runtime": "python", "handler": "main:run", "memory": 256.0 * (1 << 20),
		"timeout": 30_000.0, "max_concurrency": 20.0}
	configuration := resource.Configuration(config)
	id := resource.RevisionID(listing.Digest(), configuration)
	for i, r := range []struct {
		address    string
		attributes map[string]any
	}{
		{"identity/keeper", map[string]any{"owner": "x"}}, {"logs/keeper", map[string]any{"retention": 86_400_000.0}},
		{"grant/keeper/tables/kept", map[string]any{"resource": "tables/kept", "verbs": []any{"read", "write"}}},
		{"grant/keeper/objects/kept", map[string]any{"resource": "objects/kept", "verbs": []any{"read"}}},
		{"function/keeper", config},
		{"revision/keeper", map[string]any{"artifact": listing.Digest(), "configuration": configuration, "id": id}},
		{"pointer/keeper", map[string]any{"shares": map[string]any{id: 100.0}}},
	} {
		if _, err := client.Put(t.Context(), scope, r.address,
			platform.Change{Key: fmt.Sprint("first ", i), Attributes: r.attributes, Version: 1}); err != nil {
			t.Fatal(r.address, err)
		}
	}
}

// one has one item accepted.
func (a *accepted) one(t *testing.T, r *rig, client *platform.Client, scope platform.Scope, round, n int) {
	name := fmt.Sprint("n", n)
	switch n % 5 {
	case 0:
		if status, _ := r.platformAsk("POST", "/hand/north/frostline/trial/queues/waiting",
			n); status == http.StatusAccepted {
			a.keep(func() { a.messages[n] = true })
		}
	case 1:
		if status, _ := r.platformAsk("PUT", "/hand/north/frostline/trial/objects/kept/"+name,
			name); status == http.StatusNoContent {
			a.keep(func() { a.objects[name] = true })
		}
	case 2:
		address := "identity/" + name
		if _, err := client.Put(t.Context(), scope, address,
			platform.Change{Key: name, Attributes: map[string]any{"owner": name}, Version: 1}); err == nil {
			a.keep(func() { a.resources[address] = name })
		}
	case 3:
		inv, err := client.Invoke(t.Context(), scope, "keeper", "", "", map[string]any{"keep": name}, time.Minute)
		if err == nil && inv.Response != nil {
			a.keep(func() {
				a.rows[name] = true
				a.calls[inv.Id] = logged{round, time.Now()}
			})
		}
	case 4:
		var op wire.Operation
		status, body := r.platformAsk("PUT", "/regions/north/scopes/frostline/trial/resources/identity%2F"+name,
			wire.ResourceRequest{Attributes: map[string]any{"owner": name}},
			"Prefer", "respond-async", "Idempotency-Key", name)
		if status == http.StatusAccepted && json.Unmarshal(body, &op) == nil {
			a.keep(func() { a.operations[op.Id] = name })
		}
	}
}

func (a *accepted) keep(what func()) {
	a.mu.Lock()
	defer a.mu.Unlock()
	what()
}

// all expects all accepted items.
func (a *accepted) all(t *testing.T, r *rig, client *platform.Client, scope platform.Scope, killed []time.Time) {
	t.Helper()
	for id, name := range a.operations {
		delete(a.operations, id)
		var op wire.Operation
		until(t, "operation "+id+" ends", func() bool {
			_, body := r.platformAsk("GET", "/operations/"+id, nil)
			return json.Unmarshal(body, &op) == nil && op.State != "" && op.State != wire.OperationWaiting
		})
		if op.State != wire.OperationSucceeded {
			t.Errorf("the operation for %s: %+v", name, op)
		}
		a.changes++
		a.resources["identity/"+name] = name
	}
	snapshot, err := client.Snapshot(t.Context(), scope)
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]any{}
	for _, res := range snapshot.Resources {
		there[res.Address] = res.Attributes["owner"]
	}
	for address, owner := range a.resources {
		if there[address] != owner {
			t.Errorf("%s is lost: %v", address, there[address])
		}
	}
	rows, objects := []string{}, []string{}
	for name := range a.rows {
		rows = append(rows, name)
	}
	for name := range a.objects {
		objects = append(objects, name)
	}
	inv, err := client.Invoke(t.Context(), scope, "keeper", "", "", map[string]any{"rows": rows, "objects": objects}, time.Minute)
	if err != nil || inv.Error != nil {
		t.Fatal(err, inv.Error)
	}
	answer := inv.Response.(map[string]any)
	for i, row := range answer["rows"].([]any) {
		if row != 1.0 {
			t.Errorf("the row %s is lost", rows[i])
		}
	}
	for i, found := range answer["objects"].([]any) {
		if found != true {
			t.Errorf("the object %s is lost", objects[i])
		}
	}
	waiting := r.messages(t, client, scope)
	for n := range a.messages {
		if !waiting[n] {
			t.Errorf("the message %d is lost", n)
		}
	}
	for id, call := range a.calls {
		delete(a.calls, id) // once is enough
		before := killed[call.round].Sub(call.at)
		if before <= written {
			continue
		}
		a.old++
		lines, err := client.Logs(t.Context(), scope, platform.LogQuery{Function: "keeper", Invocation: id})
		if err != nil || len(lines) != 2 {
			t.Errorf("of the log of the call %s, %s before the kill, %d lines are there, %v", id, before, len(lines), err)
		}
	}
}

// messages reads all that waits, by giving it to a function that hands it out.
func (r *rig) messages(t *testing.T, client *platform.Client, scope platform.Scope) map[int]bool {
	t.Helper()
	out := map[int]bool{}
	list, err := client.Messages(t.Context(), scope, false)
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range list {
		if n, ok := m.Body.(float64); ok {
			out[int(n)] = true
		}
	}
	return out
}

// The platform as a process of its own keeps every rule of the protocol.
func TestStandalonePlatformConforms(t *testing.T) {
	t.Parallel()
	r, _ := startPlatform(t, t.TempDir())
	defer r.kill()
	results, err := conform.Run(t.Context(), "http://"+r.address, "secret")
	if err != nil || len(results) < 20 {
		t.Fatal(len(results), err)
	}
	for _, rule := range results {
		if rule.Problem != "" || rule.Skipped {
			t.Errorf("%s: %s (skipped: %v)", rule.Rule, rule.Problem, rule.Skipped)
		}
	}
}
