package pack_test

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/klauspost/compress/flate"

	"rudmar/core/pack"
)

func entries() []pack.Entry {
	return []pack.Entry{
		{Path: "warn.py", Content: []byte("def run(call): pass\n")},
		{Path: "lib/tool.sh", Executable: true, Content: []byte("#!/bin/sh\n")},
		{Path: "empty.txt"},
	}
}

func write(t *testing.T, list []pack.Entry) ([]byte, pack.Listing) {
	t.Helper()
	var out bytes.Buffer
	if err := pack.Write(&out, list); err != nil {
		t.Fatal(err)
	}
	listing, err := pack.List(list)
	if err != nil {
		t.Fatal(err)
	}
	return out.Bytes(), listing
}

// goldenSHA256 is that of the archive of TestGoldenBytes. Were it another, every
// archive would be: versions that were built before would not be the same any more.
const goldenSHA256 = "5e8c1b57191dd07280ea6e19c1cb15e4388ac5aa7395c8657b8c6159fdb8fe6c"

const goldenListing = "sha256:f79c4bccbaf5701a1503787f3980b10c492ed36f2b67e6e27b8535503c9d1f6a"

// The bytes of an archive never change: order, times, modes, methods and headers.
func TestGoldenBytes(t *testing.T) {
	archive, _ := write(t, []pack.Entry{
		{Path: "b.py", Content: []byte(strings.Repeat("def run(call): return call.event\n", 40))},
		{Path: "a.sh", Executable: true, Content: []byte("#!/bin/sh\n")},
		{Path: "ø/ä.txt", Content: []byte("frost")},
		{Path: "empty"},
	})
	sum := sha256.Sum256(archive)
	if got := hex.EncodeToString(sum[:]); got != goldenSHA256 {
		t.Errorf("the archive has the SHA-256 %s", got)
	}
	// By hand: printf '0755\0%s\0a.sh\0' $(printf '#!/bin/sh\n' | sha256sum | cut -d' ' -f1) | sha256sum
	listing, err := pack.List([]pack.Entry{{Path: "a.sh", Executable: true, Content: []byte("#!/bin/sh\n")}})
	if want := goldenListing; err != nil || listing.Digest() != want || listing.Size() != 10 {
		t.Errorf("%s of %d bytes, %v, want %s", listing.Digest(), listing.Size(), err, want)
	}
}

// The same files result in the same bytes and the same digest, in any order.
func TestArchivesAreDeterministic(t *testing.T) {
	first, listing := write(t, entries())
	for seed := range uint64(20) {
		list := entries()
		rand.New(rand.NewPCG(seed, 1)).Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		again, other := write(t, list)
		if !bytes.Equal(first, again) || listing.Digest() != other.Digest() {
			t.Fatal("another order gives other bytes")
		}
	}
}

func TestEveryDifferenceChangesTheDigest(t *testing.T) {
	_, listing := write(t, entries())
	changes := map[string]func([]pack.Entry) []pack.Entry{
		"content": func(e []pack.Entry) []pack.Entry { e[0].Content = []byte("other"); return e },
		"name":    func(e []pack.Entry) []pack.Entry { e[0].Path = "wran.py"; return e },
		"mode":    func(e []pack.Entry) []pack.Entry { e[0].Executable = true; return e },
		"fewer":   func(e []pack.Entry) []pack.Entry { return e[1:] },
		"more":    func(e []pack.Entry) []pack.Entry { return append(e, pack.Entry{Path: "x"}) },
	}
	for name, change := range changes {
		if other, _ := pack.List(change(entries())); other.Digest() == listing.Digest() {
			t.Errorf("another %s gives the same digest", name)
		}
	}
}

func TestReadReturnsWrittenEntries(t *testing.T) {
	archive, listing := write(t, entries())
	back, err := pack.Read(archive, listing.Digest())
	if err != nil {
		t.Fatal(err)
	}
	again, _ := pack.List(back)
	if fmt.Sprint(again) != fmt.Sprint(listing) || listing.Size() != 30 {
		t.Errorf("read %v, want %v", again, listing)
	}
	if _, err := pack.Read(archive, "sha256:0"); !errors.Is(err, pack.ErrDigest) {
		t.Errorf("another digest: %v", err)
	}
}

// An independent reader returns the written content: compressible, incompressible and empty, with names in any
// script.
func TestRandomEntries(t *testing.T) {
	dice := rand.New(rand.NewPCG(7, 7))
	var list []pack.Entry
	for i := range 200 {
		content := make([]byte, dice.IntN(5000))
		for k := range content {
			content[k] = byte(dice.IntN([]int{1, 4, 256}[i%3]) + 'a')
		}
		list = append(list, pack.Entry{Path: fmt.Sprintf("%s/%d", []string{"plain", "blåbær", "苹果"}[i%3], i),
			Executable: i%5 == 0, Content: content})
	}
	archive, listing := write(t, list)
	if _, err := pack.Read(archive, listing.Digest()); err != nil {
		t.Error(err)
	}
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil || len(z.File) != len(list) {
		t.Fatalf("%v, %d files", err, len(z.File))
	}
	for _, e := range list {
		f, err := z.Open(e.Path)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(f)
		if err != nil || !bytes.Equal(got, e.Content) {
			t.Errorf("%s: %d bytes come back as %d, %v", e.Path, len(e.Content), len(got), err)
		}
	}
}

// A flipped byte anywhere is detected, or does not change the content.
func TestFlippedBytes(t *testing.T) {
	archive, listing := write(t, entries())
	found := 0
	for i := range archive {
		damaged := bytes.Clone(archive)
		damaged[i] ^= 0x40
		back, err := pack.Read(damaged, listing.Digest())
		if err != nil {
			found++
			continue
		}
		if again, _ := pack.List(back); again.Digest() != listing.Digest() {
			t.Fatalf("byte %d: other files were read without an error", i)
		}
	}
	if found < len(archive)/4 {
		t.Errorf("only %d of %d flips were noticed", found, len(archive))
	}
}

func TestRejectsUnsafePaths(t *testing.T) {
	for _, path := range []string{"../x", "/etc/x", "a/../b", "", ".", "a\\b"} {
		if _, err := pack.List([]pack.Entry{{Path: path}}); !errors.Is(err, pack.ErrPath) {
			t.Errorf("%q: %v", path, err)
		}
	}
	if _, err := pack.List([]pack.Entry{{Path: "big", Content: make([]byte, pack.MaxBytes+1)}}); !errors.Is(err,
		pack.ErrTooLarge) {
		t.Errorf("too large: %v", err)
	}
	if _, err := pack.List(make([]pack.Entry, pack.MaxFiles+1)); !errors.Is(err, pack.ErrTooLarge) {
		t.Errorf("too many: %v", err)
	}
	if _, err := pack.List([]pack.Entry{{Path: "fits", Content: make([]byte, pack.MaxBytes)}}); err != nil {
		t.Errorf("as large as can be: %v", err)
	}
	many := make([]pack.Entry, pack.MaxFiles)
	for i := range many {
		many[i].Path = strconv.Itoa(i)
	}
	if _, err := pack.List(many); err != nil {
		t.Errorf("as many as can be: %v", err)
	}
	zipped := func(files, size int) []byte { // not by Write, which would refuse it
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		for i := range files {
			f, err := z.Create(strconv.Itoa(i))
			if err == nil {
				_, err = f.Write(make([]byte, size))
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		z.Close()
		return out.Bytes()
	}
	for _, c := range []struct {
		files, size int
		fits        bool
	}{{1, pack.MaxBytes, true}, {1, pack.MaxBytes + 1, false}, {2, pack.MaxBytes/2 + 1, false},
		{pack.MaxFiles, 0, true}, {pack.MaxFiles + 1, 0, false}} {
		if _, err := pack.Read(zipped(c.files, c.size), ""); (err == nil) != c.fits ||
			!c.fits && !errors.Is(err, pack.ErrTooLarge) {
			t.Errorf("%d files of %d bytes: %v", c.files, c.size, err)
		}
	}
	for _, twice := range [][]pack.Entry{{{Path: "a"}, {Path: "b"}, {Path: "a", Content: []byte("other")}}, {{Path: "a"}, {Path: "a"}}} {
		if _, err := pack.List(twice); !errors.Is(err, pack.ErrTwice) {
			t.Errorf("two of one name: %v", err)
		}
	}
	bomb := zipped(1, 1<<20)
	at := bytes.LastIndex(bomb, []byte("PK\x01\x02")) + 24 // the size in the directory (APPNOTE 4.3.12)
	binary.LittleEndian.PutUint32(bomb[at:], 100)
	if content, err := pack.Read(bomb, ""); err == nil {
		t.Errorf("a file that is larger than its header says was read: %d bytes", len(content[0].Content))
	}
	if _, err := pack.Read([]byte("no archive"), ""); err == nil {
		t.Error("what is no archive was read")
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	if _, err := z.Create("../../etc/passwd"); err != nil {
		t.Fatal(err)
	}
	z.Close()
	if _, err := pack.Read(out.Bytes(), ""); !errors.Is(err, pack.ErrPath) {
		t.Errorf("a path that leaves: %v", err)
	}
}

// The limits are those in docs/problems.md and on the page.
func TestLimits(t *testing.T) {
	_, err := pack.List([]pack.Entry{{Path: "big", Content: make([]byte, 52_500_000)}})
	if want := "the archive exceeds the limit: 50.1 MiB, the limit is 50 MiB"; err == nil || !strings.Contains(err.Error(), want) {
		t.Errorf("%v, want %q", err, want)
	}
	if _, err = pack.List(make([]pack.Entry, 20_001)); err == nil || !strings.Contains(err.Error(), "20001 files, the limit is 20000") {
		t.Error(err)
	}
}

func TestExclude(t *testing.T) {
	patterns := []string{"*.md", "test/**", "docs/*.txt", "**/tmp/*"}
	for name, want := range map[string]bool{
		"README.md": true, "lib/notes.md": true, "main.py": false, "test/a.py": true, "test/deep/b.py": true,
		"testing/a.py": false, "docs/a.txt": true, "docs/deep/a.txt": false, "tmp/x": true, "a/b/tmp/x": true, "tmp": false,
	} {
		if pack.Exclude(patterns, name) != want {
			t.Errorf("%s: %v", name, !want)
		}
	}
}

// TestManyWildcards would not end within a day if each ** were tried against every folder independently.
func TestManyWildcards(t *testing.T) {
	pattern, name := strings.Repeat("**/a/", 40)+"b", strings.Repeat("a/", 200)+"c"
	if pack.Exclude([]string{pattern}, name) || !pack.Exclude([]string{pattern}, name+"/a/b") {
		t.Error("a pattern with forty times ** matches what it should not, or not what it should")
	}
}

func FuzzRead(f *testing.F) {
	var out bytes.Buffer
	if err := pack.Write(&out, entries()); err != nil {
		f.Fatal(err)
	}
	f.Add(out.Bytes())
	f.Fuzz(func(t *testing.T, archive []byte) {
		back, err := pack.Read(archive, "")
		if err != nil {
			return
		}
		if _, err := pack.List(back); err != nil {
			t.Errorf("what was read cannot be listed: %v", err)
		}
	})
}

// Only the owner's execute bit counts.
func TestExecutableBit(t *testing.T) {
	for mode, want := range map[fs.FileMode]bool{0o645: false, 0o654: false, 0o744: true, 0o755: true, 0o644: false} {
		var text bytes.Buffer
		z := zip.NewWriter(&text)
		header := &zip.FileHeader{Name: "run.sh"}
		header.SetMode(mode)
		f, err := z.CreateHeader(header)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.Write([]byte("#!/bin/sh\n")); err != nil {
			t.Fatal(err)
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		listing, err := pack.List([]pack.Entry{{Path: "run.sh", Executable: want, Content: []byte("#!/bin/sh\n")}})
		if err != nil {
			t.Fatal(err)
		}
		got, err := pack.Read(text.Bytes(), listing.Digest())
		if err != nil || len(got) != 1 || got[0].Executable != want {
			t.Errorf("%o: %+v, %v", mode, got, err)
		}
	}
}

// Incompressible content is stored.
func TestIncompressibleFilesAreStored(t *testing.T) {
	size := func(content []byte) int {
		var out bytes.Buffer
		z, err := flate.NewWriter(&out, 6)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := z.Write(content); err != nil {
			t.Fatal(err)
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return out.Len()
	}
	seen := map[string]int{}
	dice := rand.New(rand.NewPCG(17, 19))
	for n := range 400 {
		content := []byte(strings.Repeat("a", 30+dice.IntN(90)))
		for range n % 40 {
			content = append(content, byte('a'+dice.IntN(26)))
		}
		text, _ := write(t, []pack.Entry{{Path: "a.txt", Content: content}})
		z, err := zip.NewReader(bytes.NewReader(text), int64(len(text)))
		if err != nil {
			t.Fatal(err)
		}
		squeezed := size(content)
		switch stored := z.File[0].Method == zip.Store; {
		case squeezed < len(content) && stored, squeezed >= len(content) && !stored:
			t.Errorf("%d bytes, %d squeezed: stored %v", len(content), squeezed, stored)
		case stored:
			seen["stored"]++
		default:
			seen["squeezed"]++
		}
	}
	if len(seen) != 2 {
		t.Errorf("not all was tried: %v", seen)
	}
}
