package source

import (
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"sort"
)

// Content is a file's bytes, and whether it can be run.
type Content struct {
	Bytes      []byte
	Executable bool
}

// Loose returns a folder of files without a commit, by their paths. Its blobs have git's names.
func Loose(files map[string]Content) *Folder {
	f := &Folder{byPath: map[string]int{}, content: map[string][]byte{}}
	for name, c := range files {
		blob := BlobName(c.Bytes)
		f.content[blob] = c.Bytes
		f.files = append(f.files, File{Path: name, Blob: blob, Size: int64(len(c.Bytes)), Executable: c.Executable})
	}
	sort.Slice(f.files, func(i, j int) bool { return f.files[i].Path < f.files[j].Path })
	for i, file := range f.files {
		f.byPath[file.Path] = i
	}
	return f
}

// BlobName returns git's name for a blob: the SHA-1 of its header and content.
func BlobName(content []byte) string {
	h := sha1.New() // git's name for it, not a security measure
	fmt.Fprintf(h, "blob %d\x00", len(content))
	h.Write(content)
	return hex.EncodeToString(h.Sum(nil))
}
