// Package pack creates deterministic archives: the same files always result in the same bytes. An archive is a
// zip with sorted names, a fixed time and fixed modes. Its digest is the SHA-256 of its canonical listing, so
// it does not depend on the compressor.
//
// All its functions can be called concurrently.
package pack

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Limits of an archive.
const (
	MaxFiles = 20_000
	MaxBytes = 50 << 20 // of all contents together
)

// Errors of archives.
var (
	ErrTooLarge = errors.New("the archive exceeds the limit")
	ErrDigest   = errors.New("the archive does not match its digest")
	ErrPath     = errors.New("the archive contains a path outside its folder")
	ErrTwice    = errors.New("the archive contains two files of one name")
)

// Entry is a file to be packed.
type Entry struct {
	Path       string // slash-separated, relative
	Executable bool
	Content    []byte
}

// Listed is a file of an archive without its content.
type Listed struct {
	Path   string `json:"path"`
	Mode   string `json:"mode"` // "0644" or "0755"
	Size   int64  `json:"size"` // bytes
	SHA256 string `json:"sha256"`
}

// Listing is the files of an archive, sorted by path.
type Listing []Listed

// List returns the listing of entries.
func List(entries []Entry) (Listing, error) {
	if len(entries) > MaxFiles {
		return nil, fmt.Errorf("%w: %d files, the limit is %d; exclude some with build.exclude",
			ErrTooLarge, len(entries), MaxFiles)
	}
	out := make(Listing, 0, len(entries))
	var total int64
	for _, e := range entries {
		if !fs.ValidPath(e.Path) || e.Path == "." || strings.Contains(e.Path, "\\") {
			return nil, fmt.Errorf("%w: %q", ErrPath, e.Path)
		}
		total += int64(len(e.Content))
		sum := sha256.Sum256(e.Content)
		out = append(out, Listed{Path: e.Path, Mode: mode(e.Executable), Size: int64(len(e.Content)),
			SHA256: hex.EncodeToString(sum[:])})
	}
	if total > MaxBytes {
		return nil, fmt.Errorf(
			"%w: %.1f MiB, the limit is %d MiB; exclude files with build.exclude", ErrTooLarge,
			float64(total)/(1<<20), MaxBytes>>20)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	for i := 1; i < len(out); i++ { // with duplicate names, readers disagree about which one counts
		if out[i].Path == out[i-1].Path {
			return nil, fmt.Errorf("%w: %q", ErrTwice, out[i].Path)
		}
	}
	return out, nil
}

func mode(executable bool) string {
	if executable {
		return "0755"
	}
	return "0644"
}

// Digest returns the SHA-256 of the listing: one line per file, with mode, SHA-256 of the content, and path,
// each ended by a NUL.
func (l Listing) Digest() string {
	h := sha256.New()
	for _, f := range l {
		fmt.Fprintf(h, "%s\x00%s\x00%s\x00", f.Mode, f.SHA256, f.Path)
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil))
}

// Size returns the bytes of all contents together.
func (l Listing) Size() int64 {
	var total int64
	for _, f := range l {
		total += f.Size
	}
	return total
}

// Read reads an archive and checks it against its digest, if one is given.
func Read(archive []byte, digest string) ([]Entry, error) {
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		return nil, fmt.Errorf("reading an archive: %w", err)
	}
	var entries []Entry
	var total uint64
	for _, f := range z.File {
		if !fs.ValidPath(f.Name) {
			return nil, fmt.Errorf("%w: %q", ErrPath, f.Name)
		}
		if total += f.UncompressedSize64; total > MaxBytes || len(entries) >= MaxFiles {
			return nil, ErrTooLarge
		}
		content, err := readFile(f)
		if err != nil {
			return nil, fmt.Errorf("reading %s of an archive: %w", f.Name, err)
		}
		entries = append(entries, Entry{Path: f.Name, Executable: f.Mode()&0o100 != 0, Content: content})
	}
	listing, err := List(entries)
	if err != nil {
		return nil, err
	}
	if digest != "" && listing.Digest() != digest {
		return nil, fmt.Errorf("%w: %s instead of %s", ErrDigest, listing.Digest(), digest)
	}
	return entries, nil
}

func readFile(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r) // no more than its header says: archive/zip rejects the rest
}

// ValidPattern reports whether Exclude understands a pattern.
func ValidPattern(pattern string) bool {
	return doublestar.ValidatePattern(strings.TrimSuffix(pattern, "/"))
}

// Exclude reports whether a path matches one of the patterns. A pattern without a slash matches a name in any
// folder; ** matches any number of folders.
func Exclude(patterns []string, name string) bool {
	for _, p := range patterns {
		if !strings.Contains(p, "/") {
			if ok, _ := path.Match(p, path.Base(name)); ok {
				return true
			}
			continue
		}
		if ok, _ := doublestar.Match(strings.TrimSuffix(p, "/"), name); ok {
			return true
		}
	}
	return false
}
