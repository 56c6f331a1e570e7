package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestTableIsReplaced(t *testing.T) {
	const output = "goos: linux\nBenchmarkReading/board/10-2   \t 20\t 6964563 ns/op\t 6.964 ms/read\nBenchmarkColdStart-2 1 8 ns/op 1.296 x-plain-process\nok x 1s\n"
	document := filepath.Join(t.TempDir(), "figures.md")
	for _, tt := range []struct{ name, text, output, want, problem string }{
		{"replaced", "a\n" + begin + "old\n" + end + "b\n", output, "a\n" + begin + "\n| benchmark | figure | value |\n|---|---|---|\n" +
			"| Reading, board, 10 | ms/read | 6.964 |\n| ColdStart | x plain process | 1.296 |\n\n" + end + "b\n", ""},
		{"no marks", "a\n", output, "a\n", "are missing"},
		{"failed", begin + end, output + "FAIL\n", begin + end, "a benchmark failed"},
	} {
		if err := os.WriteFile(document, []byte(tt.text), 0o600); err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		err := run(document, strings.NewReader(tt.output), &out)
		if (err != nil) != (tt.problem != "") || err != nil && !strings.Contains(err.Error(), tt.problem) {
			t.Errorf("%s: %v", tt.name, err)
		}
		if got, _ := os.ReadFile(document); string(got) != tt.want || out.String() != tt.output {
			t.Errorf("%s: %s\n%s", tt.name, got, out.String())
		}
	}
}
