package check_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"sync"
	"testing"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

// stampedFiles is a folder with stamps, which counts reads.
type stampedFiles struct {
	held
	mu   *sync.Mutex
	read map[string]int
}

type held = manifest.Files

func stamped(files manifest.Files) stampedFiles {
	return stampedFiles{files, &sync.Mutex{}, map[string]int{}}
}

func (f stampedFiles) Stamp(name string) string {
	return fmt.Sprintf("%x", f.held[name])
}

func (f stampedFiles) Read(name string) ([]byte, error) {
	f.mu.Lock()
	f.read[name]++
	f.mu.Unlock()
	return f.held.Read(name)
}

// TestIncrementalCheck edits a service at random, and expects the same result with and without a cache.
func TestIncrementalCheck(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 7))
	names := []string{"alder", "birch", "cedar", "damson", "elder"}
	function := func(name string) string {
		pick := func(options ...string) string { return options[random.IntN(len(options))] }
		return "function: " + pick(name, name, name, names[0], "Bad Name") + "\nhandler: main:" +
			pick("run", "run", "walk") + "\n" +
			pick("", "memory: 256 MiB\n", "memory: 7\n", "memroy: 1\n", "env: [\n") +
			"env:\n  A: " + pick("x", "${settings.frost_limit}", "${settings.lost}", "${secrets.sms_key}",
			"${functions."+names[random.IntN(len(names))]+".url}") + "\n" +
			"triggers:\n  ask: {route: \"GET /" + pick(name, "shared") + "\", open_to: anyone}\n" +
			pick("", "  after: {function: "+names[random.IntN(len(names))]+"}\n") +
			pick("", "per_stage:\n  live: {memory: 512 MiB}\n", "per_stage:\n  nowhere: {memory: 512 MiB}\n")
	}
	for run := range 40 {
		var cache check.Cache
		var became expand.Cache
		files := stamped(manifest.Files{"rudmar.yaml": []byte(service)})
		var folder manifest.Folder = files
		if run%2 == 0 {
			folder = files.held // without stamps: contents are compared
		}
		for step := range 25 {
			name := names[random.IntN(len(names))]
			dir := "functions/" + name + "/"
			switch random.IntN(8) {
			case 0:
				delete(files.held, dir+"function.yaml")
			case 1:
				files.held["rudmar.yaml"] = []byte(service + []string{"description: x\n", "ownr: y\n", ""}[random.IntN(3)])
			case 2:
				files.held[dir+"main.py"] = []byte([]string{"def run(call): pass\n", "def walk(call): pass\n"}[random.IntN(2)])
			case 3:
				delete(files.held, dir+"main.py")
			case 4:
				files.held[dir+"cases/one.yaml"] = []byte("case: one\nsend: {trigger: " +
					[]string{"ask", "after", "lost"}[random.IntN(3)] + "}\nexpect: [status == 200]\n")
			default:
				files.held[dir+"function.yaml"] = []byte(function(name))
			}
			got, want := check.Options{Cache: &cache}.Service(folder), check.Service(folder)
			if !reflect.DeepEqual(got.Diagnostics, want.Diagnostics) {
				t.Fatalf("run %d, step %d:\n got %v\nwant %v", run, step, got.Diagnostics, want.Diagnostics)
			}
			if (got.Service == nil) != (want.Service == nil) {
				t.Fatalf("run %d, step %d: a service: %v, want %v", run, step, got.Service != nil, want.Service != nil)
			}
			if got.Service == nil {
				continue
			}
			for i := range got.Service.Stages {
				in := expand.Inputs{Version: step, Artifacts: map[string]string{name: fmt.Sprint(step / 2)},
					Secrets: map[string]string{"sms_key": fmt.Sprint(step / 4)}}
				a, b := &got.Service.Stages[i], &want.Service.Stages[i]
				again, problems := expand.ExpandAgain(got.Service, a, a.Targets[0], in, &became)
				fresh, wanted := expand.Expand(want.Service, b, b.Targets[0], in)
				if !reflect.DeepEqual(again, fresh) || !reflect.DeepEqual(problems, wanted) {
					t.Fatalf("run %d, step %d: expanding again differs:\n%v\n%v", run, step, again, fresh)
				}
			}
			for i, fn := range got.Service.Functions {
				if !reflect.DeepEqual(fn.Cases, want.Service.Functions[i].Cases) {
					t.Fatalf("run %d, step %d: cases of %s: %v, want %v", run, step, fn.Name, fn.Cases,
						want.Service.Functions[i].Cases)
				}
			}
		}
	}
}

// TestIncrementalCheckReadsOnlyChanges expects that only a changed file is read if the folder has stamps.
func TestIncrementalCheckReadsOnlyChanges(t *testing.T) {
	var cache check.Cache
	files := stamped(large(100))
	again := check.Options{Cache: &cache}.Service
	if r := again(files); !r.OK() {
		t.Fatal(r.Diagnostics)
	}
	clear(files.read)
	files.held["functions/f7/function.yaml"] = append(files.held["functions/f7/function.yaml"], "log_retention: 3d\n"...)
	r := again(files)
	if !r.OK() || len(files.read) != 2 || files.read["functions/f7/function.yaml"] != 1 ||
		files.read["functions/f7/main.py"] != 1 {
		t.Fatalf("read %v; %v", files.read, r.Diagnostics)
	}
	if kept := r.Service.Function("f7").At("").LogRetention.V.Hours(); kept != 72 {
		t.Errorf("logs are kept for %v hours", kept)
	}
}
