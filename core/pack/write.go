package pack

import (
	"archive/zip"
	"bytes"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unicode"

	"github.com/klauspost/compress/flate"
)

// level is the compression level of archives, from 1 to 9: the default of zip programs.
const level = 6

// Of the format of zip files (APPNOTE 6.3.9, 4.4.3 and 4.4.4).
const (
	zipVersion = 20    // 2.0: compressed by deflate
	utf8Name   = 0x800 // the name is UTF-8
)

// Write writes the archive of the entries: sorted by path, with one time and two modes, so the same entries
// result in the same bytes.
func Write(w io.Writer, entries []Entry) error {
	sorted := slices.SortedFunc(slices.Values(entries), func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	squeezed, err := squeeze(sorted)
	if err != nil {
		return err
	}
	z := zip.NewWriter(w)
	for i, e := range sorted {
		header := &zip.FileHeader{Name: e.Path, Method: zip.Deflate, CRC32: crc32.ChecksumIEEE(e.Content),
			CompressedSize64: uint64(len(squeezed[i])), UncompressedSize64: uint64(len(e.Content))}
		content := squeezed[i]
		if len(content) >= len(e.Content) {
			header.Method, header.CompressedSize64, content = zip.Store, header.UncompressedSize64, e.Content
		}
		//lint:ignore SA1019 Modified would add an extended timestamp; this is 1980-01-01, the first day that a zip can say
		header.ModifiedDate = 1<<5 | 1
		header.SetMode(0o644)
		if e.Executable {
			header.SetMode(0o755)
		}
		header.CreatorVersion |= zipVersion
		header.ReaderVersion = zipVersion
		if strings.ContainsFunc(e.Path, func(r rune) bool { return r > unicode.MaxASCII }) {
			header.Flags |= utf8Name
		}
		f, err := z.CreateRaw(header)
		if err == nil {
			_, err = f.Write(content)
		}
		if err != nil {
			return fmt.Errorf("packing %s: %w", e.Path, err)
		}
	}
	return z.Close()
}

// squeeze compresses the contents, as many concurrently as there are processors; a compressor is large, and
// each is used for many files.
func squeeze(entries []Entry) ([][]byte, error) {
	out := make([][]byte, len(entries))
	var next atomic.Int64
	var failed error
	var mu sync.Mutex
	var all sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(entries)) {
		all.Go(func() {
			var compressed bytes.Buffer
			z, err := flate.NewWriter(&compressed, level)
			for err == nil {
				i := int(next.Add(1)) - 1
				if i >= len(entries) {
					return
				}
				compressed.Reset()
				z.Reset(&compressed)
				if _, err = z.Write(entries[i].Content); err == nil {
					err = z.Close()
				}
				out[i] = bytes.Clone(compressed.Bytes())
			}
			mu.Lock()
			defer mu.Unlock()
			failed = fmt.Errorf("compressing: %w", err)
		})
	}
	all.Wait()
	return out, failed
}
