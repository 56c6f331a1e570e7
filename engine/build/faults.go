package build

import (
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"rudmar/core/pack"
	"rudmar/engine/source"
)

// authorFaults are the errors that only a change of the sources ends. Every other error is one of this machine: the
// build stays queued, and is tried again.
var authorFaults = []error{ErrBroken, ErrCommand, ErrUnpinned, ErrUncaged, source.ErrNoCommit, pack.ErrTooLarge,
	pack.ErrPath,
	pack.ErrTwice}

// leastRoom is the free space in bytes below which a failed command is put down to the full disk.
const leastRoom = 64 << 20

// authors reports whether only the author can end a build's error.
func (b *Builder) authors(err error) bool {
	return slices.ContainsFunc(authorFaults, func(fault error) bool { return errors.Is(err, fault) }) &&
		!(errors.Is(err, ErrCommand) && b.full())
}

// full reports whether the disk of the archives is full.
func (b *Builder) full() bool {
	var s unix.Statfs_t
	return unix.Statfs(b.artifacts, &s) == nil && s.Bavail*uint64(s.Bsize) < leastRoom
}

// withoutPaths removes the folders of this machine from an error's text, for people who see it.
func (b *Builder) withoutPaths(err error) string {
	text := err.Error()
	whole, absErr := filepath.Abs(b.artifacts)
	if absErr != nil {
		whole = b.artifacts
	}
	for _, dir := range []string{whole, b.artifacts, filepath.Dir(whole)} {
		if len(dir) > 1 {
			text = strings.ReplaceAll(text, dir, "(data folder)")
		}
	}
	return text
}
