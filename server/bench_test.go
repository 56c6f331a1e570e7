package server

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"rudmar/engine"
	"rudmar/engine/source"
	"rudmar/platform"
	"rudmar/server/api"
)

// grown returns handlers over a service of 100 functions with so many versions,
// which all wait for live. Its platform hangs.
func grown(b *testing.B, versions int) *handlers {
	b.Helper()
	hang := make(chan struct{})
	p := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, q *http.Request) {
		select {
		case <-hang:
		case <-q.Context().Done():
		}
	}))
	b.Cleanup(p.Close)
	b.Cleanup(func() { close(hang) })
	client, err := platform.NewClient(p.URL, "t", platform.Within(time.Second))
	if err != nil {
		b.Fatal(err)
	}
	s, db := stand(b, engine.Options{Platforms: map[string]*platform.Client{"local": client}, ObserveEvery: time.Hour})
	e := s.engine
	if err := e.CreateRepository(b.Context(), "brambleford", "wren"); err != nil {
		b.Fatal(err)
	}
	files := map[string][]byte{
		"rudmar.yaml": []byte(
			"rudmar: 1\nservice: frostline\nowner: cold-nights\nstages:\n  - {stage: trial, target: local/north, enter: {when: push}}\n  - {stage: live, target: local/north, enter: {after: trial, when: request}, gates: {approvals: {from: council}}}\n")}
	for i := range 100 {
		name := fmt.Sprintf("f%03d", i)
		files["functions/"+name+"/function.yaml"] = fmt.Appendf(nil,
			"function: %s\nhandler: main:run\nmemory: 192 MiB\ntriggers: {ask: {route: \"GET /%s/{id}\", open_to: anyone}}\npermissions:\n  - {allow: [read, query], resource: tables/stations}\nenv: {LIMIT: \"-2\", MODE: quiet}\n", name, name)
		files["functions/"+name+"/main.py"] = []byte("def run(call): return 1\n")
	}
	if _, err := e.Host.Repository("brambleford").Apply(b.Context(),
		source.Change{Branch: "main", Message: "first", Author: "wren", Email: "w@x.invalid", Files: files}); err != nil {
		b.Fatal(err)
	}
	if err := e.Build.Pushed(b.Context(), "brambleford", "wren"); err != nil {
		b.Fatal(err)
	}
	until := time.Now().Add(20 * time.Second)
	for n := 0; n == 0; n, err = e.Store.NewestVersion(b.Context(), "frostline") {
		if err != nil || time.Now().After(until) {
			b.Fatal("it was not built: ", err)
		}
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
	for _, text := range []string{
		`CREATE TEMP TABLE n AS WITH RECURSIVE n(i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i < ` +
			fmt.Sprint(versions) + `) SELECT i FROM n`,
		`INSERT INTO versions (service, number, hash, branch, author, person, message, committed_at, built_at, content, manifests)
			SELECT service, i, hash, branch, author, person, message, committed_at, built_at, content || i, manifests FROM versions, n`,
		`INSERT INTO version_functions (service, version, function, digest, sources, changed) SELECT service, i, function, digest, sources, abs(random()) % 10 = 0 FROM version_functions, n`,
		`INSERT INTO deliveries (service, version, stage, state, since, turn) SELECT service, i, stage, CASE WHEN stage = 'trial' AND i < ` + fmt.Sprint(versions-20) + ` THEN 'overtaken' WHEN i < ` + fmt.Sprint(versions-20) + ` THEN 'overtaken' ELSE 'waiting' END, since, i FROM deliveries, n`,
		`INSERT INTO stages (service, stage, target, serial, version, since) VALUES ('frostline', 'trial', 'local/north', 1, 1, 1), ('frostline', 'live', 'local/north', 1, 1, 1)`,
		`INSERT INTO records (service, stage, target, address, kind, function, attributes, needs, platform, version, changed_at)
			SELECT 'frostline', stage, 'local/north', kind || '/' || function, kind, function, '{"memory": 201326592}', '[]', '{}', 1, 1 FROM version_functions,
			(SELECT 'trial' AS stage UNION SELECT 'live'), (SELECT 'function' AS kind UNION SELECT 'route' UNION SELECT 'identity' UNION SELECT 'pointer' UNION SELECT 'revision') WHERE version = 1`,
	} {
		if _, err := db.ExecContext(b.Context(), text); err != nil {
			b.Fatal(text, err)
		}
	}
	return &handlers{s}
}

// BenchmarkReading reads the stage line, the Board and the lists of a service with 1,000 versions of 100
// functions, whose platform hangs; and reports the time relative to ten versions.
func BenchmarkReading(b *testing.B) {
	reads := []struct {
		name string
		do   func(ctx context.Context, h *handlers) error
	}{
		{"stage-line", func(ctx context.Context, h *handlers) error {
			_, err := h.GetStageLine(ctx, api.GetStageLineRequestObject{Service: "frostline"})
			return err
		}},
		{"board", func(ctx context.Context, h *handlers) error {
			_, err := h.GetBoard(ctx, api.GetBoardRequestObject{Service: "frostline"})
			return err
		}},
		{"versions", func(ctx context.Context, h *handlers) error {
			_, err := h.ListVersions(ctx, api.ListVersionsRequestObject{Service: "frostline"})
			return err
		}},
		{"deliveries", func(ctx context.Context, h *handlers) error {
			_, err := h.ListDeliveries(ctx, api.ListDeliveriesRequestObject{Service: "frostline"})
			return err
		}},
	}
	took := map[string]float64{}
	many := 1000
	if testing.Short() {
		many = 50
	}
	for _, versions := range []int{10, many} {
		h := grown(b, versions)
		for _, read := range reads {
			b.Run(fmt.Sprintf("%s/%d", read.name, versions), func(b *testing.B) {
				if err := read.do(b.Context(), h); err != nil { // data that is read once
					b.Fatal(err)
				}
				for b.Loop() {
					if err := read.do(b.Context(), h); err != nil {
						b.Fatal(err)
					}
				}
				ms := float64(b.Elapsed().Microseconds()) / 1000 / float64(b.N)
				b.ReportMetric(ms, "ms/read")
				if few, ok := took[read.name]; ok && versions == many {
					b.ReportMetric(ms/few, "x-10-versions")
				} else {
					took[read.name] = ms
				}
			})
		}
	}
}
