package check_test

import (
	"bytes"
	"fmt"
	"runtime"
	"testing"
	"time"

	"go.yaml.in/yaml/v4"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

// large is a service of n functions, of about 540 bytes each.
func large(n int) manifest.Files {
	files := manifest.Files{"rudmar.yaml": []byte(service)}
	for i := range n {
		dir := fmt.Sprintf("functions/f%d/", i)
		files[dir+"function.yaml"] = fmt.Appendf(nil, `function: f%[1]d
description: Warns growers of station %[1]d when it is close to frost
handler: main:run
memory: 192 MiB
timeout: 10s
max_concurrency: 5
env:
  LIMIT_C: ${settings.frost_limit}
  MODE: ${settings.mode}
  STAGE: ${stage.name}
triggers:
  ask: {route: "GET /stations/%[1]d/{station}/frost", open_to: anyone}
  change: {route: "POST /stations/%[1]d/{station}/limit", open_to: [growers]}
  sweep: {cron: "*/10 * * * *", zone: Europe/Oslo}
permissions:
  - {allow: [read, query], resource: tables/stations}
  - {allow: [send], resource: queues/alerts}
per_stage:
  live: {memory: 256 MiB}
`, i)
		files[dir+"main.py"] = []byte("def run(call): pass\n")
	}
	return files
}

// floor parses the same files with the YAML library alone, one after another, into nodes with positions.
func floor(files manifest.Files) time.Duration {
	begun := time.Now()
	nodes := make([]yaml.Node, 0, len(files))
	for name, text := range files {
		if manifest.IsManifest(name) {
			var node yaml.Node
			if loader, err := yaml.NewLoader(bytes.NewReader(text)); err == nil {
				_ = loader.Load(&node) // the files are sound
			}
			nodes = append(nodes, node)
		}
	}
	took := time.Since(begun)
	runtime.KeepAlive(nodes)
	return took
}

func checkAndExpand(b *testing.B, files manifest.Files) time.Duration {
	b.Helper()
	runtime.GC()
	begun := time.Now()
	r := check.Service(files)
	if !r.OK() {
		b.Fatal(r.Diagnostics[0])
	}
	for i := range r.Service.Stages {
		stage := &r.Service.Stages[i]
		expand.Expand(r.Service, stage, stage.Targets[0], expand.Inputs{})
	}
	return time.Since(begun)
}

// size returns a number of functions, a tenth of it in a short run.
func size(n int) int {
	if testing.Short() {
		return n / 10
	}
	return n
}

// BenchmarkCheckAndExpand reports the time to check 10,000 functions and expand them for two stages, as a
// multiple of parsing alone, and its growth from 1,000.
func BenchmarkCheckAndExpand(b *testing.B) {
	small, big := large(size(1000)), large(size(10_000))
	var parse, ours, tenth time.Duration
	for b.Loop() {
		runtime.GC()
		parse += floor(big)
		ours += checkAndExpand(b, big)
		tenth += checkAndExpand(b, small)
	}
	b.ReportMetric(float64(ours)/float64(parse), "x-parsing")
	b.ReportMetric(float64(ours)/float64(tenth), "x-at-tenfold-size")
}

// BenchmarkOneChangedFile reports the time to check and expand for two stages after one of 10,000 functions was
// edited, as a share of the whole.
func BenchmarkOneChangedFile(b *testing.B) {
	files := large(size(10_000))
	name := "functions/f77/function.yaml"
	var cache check.Cache
	var became expand.Cache
	round := func(edit int) time.Duration {
		files[name] = bytes.Replace(large(78)[name], []byte("description: Warns"), fmt.Appendf(nil, "description: %d warns", edit), 1)
		begun := time.Now()
		r := check.Options{Cache: &cache}.Service(files)
		if !r.OK() {
			b.Fatal(r.Diagnostics[0])
		}
		for i := range r.Service.Stages {
			stage := &r.Service.Stages[i]
			expand.ExpandAgain(r.Service, stage, stage.Targets[0], expand.Inputs{}, &became)
		}
		return time.Since(begun)
	}
	round(0)
	var whole, again time.Duration
	for b.Loop() {
		whole += checkAndExpand(b, files)
		runtime.GC()
		for edit := range 5 {
			again += round(edit+1) / 5
		}
	}
	b.ReportMetric(100*float64(again)/float64(whole), "%-of-full-check")
}
