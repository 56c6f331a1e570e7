package build_test

import (
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/core/pack"
)

// BenchmarkArchive reports the time to create the archive of a folder, as a multiple of the zip program at the
// same level; below 1 is faster. The folder is a part of Go's standard library.
func BenchmarkArchive(b *testing.B) {
	program, err := exec.LookPath("zip")
	if err != nil {
		b.Skip("there is no zip program to compare with: apt-get install zip")
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		b.Fatal(err)
	}
	dir := b.TempDir()
	for _, part := range []string{"net", "encoding", "crypto", "go"} {
		if err := os.CopyFS(filepath.Join(dir, part),
			os.DirFS(filepath.Join(strings.TrimSpace(string(root)), "src", part))); err != nil {
			b.Fatal(err)
		}
	}
	var ours, theirs time.Duration
	var our, their int64
	for b.Loop() {
		begun := time.Now()
		entries := readAll(b, dir)
		if _, err := pack.List(entries); err != nil {
			b.Fatal(err)
		}
		var archive bytes.Buffer
		if err := pack.Write(&archive, entries); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(b.TempDir(), "ours.zip"), archive.Bytes(), 0o600); err != nil {
			b.Fatal(err)
		}
		ours += time.Since(begun)
		our = int64(archive.Len())
		name := filepath.Join(b.TempDir(), "theirs.zip")
		cmd := exec.Command(program, "-q", "-r", "-6", "-X", name, ".")
		cmd.Dir = dir
		begun = time.Now()
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		theirs += time.Since(begun)
		info, err := os.Stat(name)
		if err != nil {
			b.Fatal(err)
		}
		their = info.Size()
	}
	b.ReportMetric(float64(ours)/float64(theirs), "x-zip-time")
	b.ReportMetric(float64(our)/float64(their), "x-zip-size")
}

func readAll(b *testing.B, dir string) []pack.Entry {
	b.Helper()
	var out []pack.Entry
	err := filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(name)
		out = append(out, pack.Entry{Path: strings.TrimPrefix(name, dir+"/"), Content: content})
		return err
	})
	if err != nil {
		b.Fatal(err)
	}
	return out
}
