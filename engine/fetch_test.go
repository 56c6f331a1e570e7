package engine_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
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
