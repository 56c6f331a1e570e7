package source

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// ErrMarkers reports a text that still has the conflict markers of a merge.
var ErrMarkers = errors.New("conflict markers are left")

// The lines that git writes around the two sides of a conflict.
const (
	mineMarker   = "<<<<<<< "
	theirsMarker = ">>>>>>> "
)

// Merge merges two changes of a text line by line (git merge-file). Lines that both change differently are kept on
// both sides, between conflict markers, and reported; by names the other side.
func (r Repository) Merge(ctx context.Context, base, mine, theirs, by string) (merged string, conflicts bool,
	err error) {
	dir, err := os.MkdirTemp(r.dir, "merge-")
	if err != nil {
		return "", false, fmt.Errorf("merging: %w", err)
	}
	defer os.RemoveAll(dir)
	for name, text := range map[string]string{"mine": mine, "base": base, "theirs": theirs} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return "", false, fmt.Errorf("merging: %w", err)
		}
	}
	out, err := r.command(ctx, "merge-file", "--stdout", "-L", "your edit", "-L", "before", "-L", by,
		filepath.Join(dir, "mine"), filepath.Join(dir, "base"), filepath.Join(dir, "theirs")).Output()
	var exit *exec.ExitError
	switch {
	case err == nil:
		return string(out), false, nil
	case errors.As(err, &exit) && exit.ExitCode() > 0 && exit.ExitCode() < 128: // the number of conflicts
		return string(out), true, nil
	}
	return "", false, fmt.Errorf("merging: %w", err)
}

// CheckMarkers returns an ErrMarkers with the line if a text has conflict markers.
func CheckMarkers(name, text string) error {
	if !strings.Contains("\n"+text, "\n"+theirsMarker) {
		return nil
	}
	n := 0
	for line := range strings.Lines(text) {
		n++
		if strings.HasPrefix(line, mineMarker) {
			return fmt.Errorf("%w: %s, line %d: keep the lines that you want, and delete the markers", ErrMarkers, name, n)
		}
	}
	return nil
}
