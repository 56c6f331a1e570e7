package engine_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine"
	"rudmar/engine/store"
)

// packed is a package as npm's registries serve it.
func packed(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for name, text := range files {
		must(t, w.WriteHeader(&tar.Header{Name: "package/" + name, Mode: 0o644, Size: int64(len(text))}))
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	must(t, w.Close())
	must(t, z.Close())
	return out.Bytes()
}

// module returns the files of a Go module proxy (GOPROXY protocol) for one version of a module, and its lines of go.sum.
func module(t *testing.T, name, text string) (files map[string][]byte, sums string) {
	t.Helper()
	const version = "v1.0.0"
	mod := "module " + name + "\n\ngo 1.24\n"
	var archive bytes.Buffer
	z := zip.NewWriter(&archive)
	hash := func(files map[string]string) string {
		all := sha256.New()
		for _, file := range slices.Sorted(maps.Keys(files)) {
			fmt.Fprintf(all, "%x  %s\n", sha256.Sum256([]byte(files[file])), file)
		}
		return "h1:" + base64.StdEncoding.EncodeToString(all.Sum(nil))
	}
	inside := map[string]string{name + "@" + version + "/go.mod": mod, name + "@" + version + "/plum.go": text}
	for file, content := range inside {
		w, err := z.Create(file)
		must(t, err)
		_, err = io.WriteString(w, content)
		must(t, err)
	}
	must(t, z.Close())
	at := "/go/" + name + "/@v/" + version
	return map[string][]byte{at + ".mod": []byte(mod), at + ".zip": archive.Bytes(),
			at + ".info": []byte(`{"Version": "` + version + `"}`)},
		fmt.Sprintf("%s %s %s\n%s %s/go.mod %s\n", name, version, hash(inside), name, version, hash(map[string]string{"go.mod": mod}))
}

// outward returns an address of this machine that is not one of the loopback interface.
func outward(t *testing.T) string {
	t.Helper()
	all, err := net.InterfaceAddrs()
	must(t, err)
	for _, a := range all {
		if ip, ok := a.(*net.IPNet); ok && ip.IP.To4() != nil && !ip.IP.IsLoopback() {
			return ip.IP.String()
		}
	}
	t.Skip("this machine has no network interface")
	return ""
}

// Functions of each runtime with dependencies are built from a registry and respond: with Go's cache of this user, which
// other builds have used, and with an empty one.
func TestDependenciesOfEachRuntime(t *testing.T) {
	served, sums := module(t, "plums.invalid/plum", "package plum\n\nconst Text = \"a plum\"\n")
	pears, more := module(t, "plums.invalid/pear", "package pear\n\nconst Text = \" and a pear\"\n")
	maps.Copy(served, pears)
	plum := packed(t, map[string]string{"package.json": `{"name": "plum", "version": "1.0.0"}`, "index.js": "module.exports = 'a plum'\n"})
	served["/npm/plum.tgz"] = plum
	var wheel bytes.Buffer
	z := zip.NewWriter(&wheel)
	for file, content := range map[string]string{"plum.py": "text = 'a plum'\n",
		"plum-1.0.0.dist-info/METADATA": "Metadata-Version: 2.1\nName: plum\nVersion: 1.0.0\n",
		"plum-1.0.0.dist-info/WHEEL":    "Wheel-Version: 1.0\nGenerator: x\nRoot-Is-Purelib: true\nTag: py3-none-any\n",
		"plum-1.0.0.dist-info/RECORD":   "plum.py,,\nplum-1.0.0.dist-info/METADATA,,\nplum-1.0.0.dist-info/WHEEL,,\nplum-1.0.0.dist-info/RECORD,,\n"} {
		w, err := z.Create(file)
		must(t, err)
		_, err = io.WriteString(w, content)
		must(t, err)
	}
	must(t, z.Close())
	served["/pip/plum/"] = []byte(`<html><body><a href="/pip/plum-1.0.0-py3-none-any.whl">plum-1.0.0-py3-none-any.whl</a></body></html>`)
	served["/pip/plum-1.0.0-py3-none-any.whl"] = wheel.Bytes()
	registry := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		content, ok := served[q.URL.Path]
		if !ok {
			http.NotFound(w, q)
			return
		}
		if strings.HasSuffix(q.URL.Path, "/") {
			w.Header().Set("Content-Type", "text/html")
		}
		_, _ = w.Write(content)
	}))
	host := outward(t) // Go reaches an address of the loopback interface without a proxy
	listener, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
	must(t, err)
	registry.Listener = listener
	registry.Start()
	defer registry.Close()
	t.Setenv("GOPROXY", registry.URL+"/go")
	t.Setenv("GOSUMDB", "off")
	t.Setenv("PIP_INDEX_URL", registry.URL+"/pip")
	t.Setenv("PIP_TRUSTED_HOST", host)
	sum := sha512.Sum512(plum)
	files := map[string]string{"rudmar.yaml": root,
		"g/function.yaml": "function: g\nruntime: go\nhandler: main:Run\n",
		"g/main.go":       "package main\n\nimport (\n\t\"plums.invalid/pear\"\n\t\"plums.invalid/plum\"\n)\n\nfunc Run(*Call) (any, error) { return plum.Text + pear.Text, nil }\n",
		"g/go.mod":        "module g\n\ngo 1.24\n\nrequire (\n\tplums.invalid/pear v1.0.0\n\tplums.invalid/plum v1.0.0\n)\n",
		"g/go.sum":        more + sums,
		"n/function.yaml": "function: n\nruntime: node\nhandler: main:run\n",
		"n/main.mjs":      "import plum from 'plum'\nexport const run = () => plum\n",
		"n/package.json":  `{"name": "n", "version": "1.0.0", "dependencies": {"plum": "1.0.0"}}`,
		"n/package-lock.json": fmt.Sprintf(`{"name": "n", "version": "1.0.0", "lockfileVersion": 3, "requires": true, "packages": {"": {"name": "n", "version": "1.0.0", "dependencies": {"plum": "1.0.0"}},
		"node_modules/plum": {"version": "1.0.0", "resolved": "%s/npm/plum.tgz", "integrity": "sha512-%s"}}}`, registry.URL, base64.StdEncoding.EncodeToString(sum[:])),
		"p/function.yaml":    "function: p\nruntime: python\nhandler: main:run\n",
		"p/main.py":          "import plum\ndef run(call): return plum.text\n",
		"p/requirements.txt": "plum==1.0.0\n",
	}
	for _, cache := range []string{"", filepath.Join(t.TempDir(), "empty")} {
		t.Setenv("GOCACHE", cache)
		r := newRigWith(t, func(o *engine.Options) { o.Registries = []string{host} })
		r.push(files)
		if b := r.builtOrNot(); b.State != store.BuildSucceeded {
			t.Fatalf("with the cache %q: %s %s", cache, b.Reason, b.Log)
		}
		r.reaches(1, "trial", delivery.Settled)
		client, scope := r.reach(place("trial", "north"))
		for function, want := range map[string]string{"g": "a plum and a pear", "n": "a plum", "p": "a plum"} {
			if inv, err := client.Invoke(t.Context(), scope, function, "", "", nil, time.Minute); err != nil || inv.Response != want {
				t.Errorf("with the cache %q %s responds %+v %v", cache, function, inv, err)
			}
		}
	}
}

// What a lock file names is fetched from registries that the operator names,
// before and apart from the commands of a build; others are not reached.
func TestFetchingFromRegistries(t *testing.T) {
	plum := packed(t, map[string]string{
		"package.json": `{"name": "plum", "version": "1.0.0", "scripts": {"install": "echo RAN > /tmp/ran; exit 1"}}`,
		"index.js":     "module.exports = 'a plum'\n"})
	var asked atomic.Int64
	registry := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		_, _ = w.Write(plum)
	}))
	defer registry.Close()
	sum := sha512.Sum512(plum)
	lock := fmt.Sprintf(`{"name": "a", "version": "1.0.0", "lockfileVersion": 3, "requires": true, "packages": {"": {"name": "a", "version": "1.0.0", "dependencies": {"plum": "1.0.0"}},
		"node_modules/plum": {"version": "1.0.0", "resolved": "%s/plum-1.0.0.tgz", "integrity": "sha512-%s", "hasInstallScript": true}}}`, registry.URL, base64.StdEncoding.EncodeToString(sum[:]))
	files := map[string]string{
		"rudmar.yaml":         root,
		"a/function.yaml":     "function: a\nruntime: node\nhandler: main:run\n",
		"a/main.mjs":          "import plum from 'plum'\nexport const run = () => plum\n",
		"a/package.json":      `{"name": "a", "version": "1.0.0", "dependencies": {"plum": "1.0.0"}}`,
		"a/package-lock.json": lock,
	}
	r := newRig(t)
	r.push(files)
	b := r.builtOrNot()
	if b.State != store.BuildFailed || !strings.Contains(b.Reason, "this host is not reachable: 127.0.0.1") ||
		asked.Load() > 0 {
		t.Fatalf("a registry that nobody named: %s %s, asked %d times", b.State, b.Reason, asked.Load())
	}

	named := newRigWith(t, func(o *engine.Options) { o.Registries = []string{"127.0.0.1"} })
	named.push(files)
	named.reaches(1, "trial", delivery.Settled)
	client, scope := named.reach(place("trial", "north"))
	inv, err := client.Invoke(t.Context(), scope, "a", "", "", nil, time.Minute)
	if err != nil || inv.Response != "a plum" || asked.Load() == 0 {
		t.Errorf("%+v %v", inv, err)
	}
	// A build's own commands find the fetched files, without a network.
	named.push(map[string]string{
		"a/function.yaml": "function: a\nruntime: node\nhandler: main:run\nbuild: {run: [\"npm ci --omit=dev --ignore-scripts\", \"node -e \\\"fetch('" + registry.URL + "').then(() => console.log('REACHED'), () => console.log('no way'))\\\"\"]}\n"})
	b = named.builtOrNot()
	if b.State != store.BuildSucceeded || !strings.Contains(b.Log, "\nno way") || strings.Contains(b.Log, "\nREACHED") {
		t.Errorf("commands of its own: %s %s %s", b.State, b.Reason, b.Log)
	}
	// With a network they have a way out, though not to this machine.
	named.push(map[string]string{
		"a/function.yaml": "function: a\nruntime: node\nhandler: main:run\nbuild:\n  network: true\n  run:\n    - |\n      python3 -c \"\n      import urllib.request, urllib.error\n      try: urllib.request.urlopen('" + registry.URL + "'); print('REACHED')\n      except urllib.error.HTTPError as e: print('refused', e.code)\n      \"\n"})
	b = named.builtOrNot()
	if b.State != store.BuildSucceeded || !strings.Contains(b.Log, "\nrefused 403") {
		t.Errorf("with a network: %s %s %s", b.State, b.Reason, b.Log)
	}
}
