package e2e

import (
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
)

var splitInStep = regexp.MustCompile(`\(check (\d+), pack (\d+), send (\d+) ms\)`)

// BenchmarkWatch reports the time from a saved file to the new response of a function in a private copy, for
// each interpreted runtime, with the parts for checking, packing and sending; the rest is the settling time,
// and the invocation.
func BenchmarkWatch(b *testing.B) {
	for _, tt := range []struct{ runtime, file, old, now string }{
		{"python", "main.py", `{"hello"`, `{"good evening"`},
		{"node", "main.mjs", `{ hello`, `{ evening`},
	} {
		b.Run(tt.runtime, func(b *testing.B) {
			for b.Loop() {
				parent := b.TempDir()
				dir := filepath.Join(parent, "hello")
				if out, err := run(b, parent, build(b), "new", "service", "hello", "--runtime", tt.runtime); err != nil {
					b.Fatal(out)
				}
				w := beginWatching(b, nil, "run", dir)
				w.says("", "-- synced")
				w.press("1")
				w.says("-- synced", "hello")
				begun := time.Now()
				edit(b, dir, "functions/hello/"+tt.file, tt.old, tt.now)
				w.says("-- synced", "-- synced in")
				w.says("-- synced in", "code of hello")
				w.press("1")
				w.says("code of hello", "evening")
				b.ReportMetric(float64(time.Since(begun).Milliseconds()), "ms-to-response")
				text := w.out.String()
				split := splitInStep.FindStringSubmatch(text[strings.LastIndex(text, "-- synced in"):])
				if split == nil {
					b.Fatal(text)
				}
				for i, what := range []string{"ms-check", "ms-pack", "ms-send"} {
					n, err := strconv.ParseFloat(split[i+1], 64)
					if err != nil {
						b.Fatal(err)
					}
					b.ReportMetric(n, what)
				}
				w.press("q")
				w.ends()
			}
		})
	}
}
