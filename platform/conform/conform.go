// Package conform tests a platform against the protocol, for authors of adapters. It works in
// scopes of its own and deletes what it creates.
package conform

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Result is the result of one rule of the protocol.
type Result struct {
	Rule    string
	Problem string // "" if it passed
	Skipped bool   // the platform does not have the feature of the rule
}

// trial is one run against one platform.
type trial struct {
	client  *platform.Client
	address string
	token   string
	scope   platform.Scope
	kinds   api.Kinds
	keys    int
	salt    string
	results []Result
}

// Run tests every rule, in order; a failed rule does not prevent others. The context bounds all of it.
func Run(ctx context.Context, address, token string) ([]Result, error) {
	client, err := platform.NewClient(address, token)
	if err != nil {
		return nil, err
	}
	salt := make([]byte, 4)
	if _, err := rand.Read(salt); err != nil {
		return nil, err
	}
	t := &trial{client: client, address: address, token: token, salt: hex.EncodeToString(salt)}
	t.kinds, err = client.Kinds(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the platform's kinds: %w", err)
	}
	if len(t.kinds.Regions) == 0 {
		return []Result{{Rule: "the platform has a region", Problem: "GET /kinds lists none"}}, nil
	}
	t.scope = platform.Scope{Region: t.kinds.Regions[0], Service: "conform-" + t.salt, Stage: "trial"}
	for _, rule := range rules() {
		problem, skipped := "", false
		if err := rule.try(ctx, t); errors.Is(err, errSkip) {
			skipped = true
		} else if err != nil {
			problem = err.Error()
		}
		t.results = append(t.results, Result{Rule: rule.says, Problem: problem, Skipped: skipped})
	}
	t.tidy(ctx)
	return t.results, nil
}

// errSkip reports that the platform does not have the feature of a rule.
var errSkip = errors.New("skipped")

type rule struct {
	says string
	try  func(ctx context.Context, t *trial) error
}

func (t *trial) key() string {
	t.keys++
	return fmt.Sprintf("conform-%s-%d", t.salt, t.keys)
}

// put writes a resource, with a key of its own.
func (t *trial) put(ctx context.Context, address string, attributes map[string]any) (api.Resource, error) {
	return t.client.Put(ctx, t.scope, address, platform.Change{Key: t.key(), Attributes: attributes, Version: 1})
}

// find returns a resource of the snapshot.
func (t *trial) find(ctx context.Context, address string) (*api.Resource, api.Snapshot, error) {
	s, err := t.client.Snapshot(ctx, t.scope)
	if err != nil {
		return nil, s, err
	}
	i := slices.IndexFunc(s.Resources, func(r api.Resource) bool { return r.Address == address })
	if i < 0 {
		return nil, s, nil
	}
	return &s.Resources[i], s, nil
}

// code is the function that is deployed, in a runtime that the platform has.
func (t *trial) code() (runtime, file, text string) {
	switch {
	case slices.Contains(t.kinds.Runtimes, "python"):
		return "python", "main.py",
			"import time\ndef run(call):\n    event = call.event or {}\n    print('called')\n    if event.get('fail'):\n        raise ValueError('as asked')\n    time.sleep(event.get('sleep', 0))\n    return {'same': event.get('same'), 'id': call.id}\n"
	case slices.Contains(t.kinds.Runtimes, "node"):
		return "node", "main.mjs",
			"export async function run(call) {\n  const event = call.event ?? {}\n  console.log('called')\n  if (event.fail) throw new Error('as asked')\n  await new Promise((r) => setTimeout(r, (event.sleep ?? 0) * 1000))\n  return { same: event.same, id: call.id }\n}\n"
	}
	return "", "", ""
}

func (t *trial) archive() (digest string, archive []byte, err error) {
	_, file, text := t.code()
	entries := []pack.Entry{{Path: file, Content: []byte(text + "# " + t.salt + "\n")}}
	if strings.HasSuffix(file, ".mjs") {
		entries[0].Content = []byte(text + "// " + t.salt + "\n")
	}
	listing, err := pack.List(entries)
	if err != nil {
		return "", nil, err
	}
	var out bytes.Buffer
	err = pack.Write(&out, entries)
	return listing.Digest(), out.Bytes(), err
}

// callFor is the function's timeout.
const callFor = 4 * time.Second

func (t *trial) config() map[string]any {
	runtime, _, _ := t.code()
	return map[string]any{"runtime": runtime, "handler": "main:run", "memory": 128.0 * (1 << 20),
		"timeout": float64(callFor.Milliseconds()), "max_concurrency": 2.0}
}

// rejected returns an error unless a call was rejected with a status.
func rejected(err error, status int, what string) error {
	if platform.HasStatus(err, status) {
		return nil
	}
	if err == nil {
		return fmt.Errorf("%s is accepted; expected status %d", what, status)
	}
	return fmt.Errorf("%s must be refused with %d: %w", what, status, err)
}

// ask sends a raw request that the client would not send.
func (t *trial) ask(ctx context.Context, method, path, token string, header map[string]string,
	body string) (*http.Response, error) {
	return fetch(ctx, method, t.address+path, token, header, body)
}

// fetch sends a request and reads its whole response.
func fetch(ctx context.Context, method, address, token string, header map[string]string,
	body string) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	r.Header.Set("Content-Type", "application/json")
	for name, value := range header {
		r.Header.Set(name, value)
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	response.Body = io.NopCloser(bytes.NewReader(text))
	return response, err
}

// tidy deletes the created resources, newest first.
func (t *trial) tidy(ctx context.Context) {
	for range 10 {
		s, err := t.client.Snapshot(ctx, t.scope)
		if err != nil || len(s.Resources) == 0 {
			return
		}
		order := []string{resource.Route, resource.Schedule, resource.Subscription, resource.Opening, resource.Pointer,
			resource.Revision, resource.Function, resource.Grant, resource.Logs, resource.Identity}
		for _, kind := range order {
			for _, r := range s.Resources {
				if r.Kind == kind {
					// Resources that are left are deleted again.
					_ = t.client.Delete(ctx, t.scope, r.Address, platform.Change{Key: t.key()})
				}
			}
		}
	}
}

func eventually(ctx context.Context, limit time.Duration, check func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		ok, err := check()
		if err != nil {
			return err
		}
		if ok {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("not within %s", limit)
		case <-tick.C:
		}
	}
}
