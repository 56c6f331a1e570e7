package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

// Limits of a push.
const (
	maxPack     = 256 << 20 // bytes of the request
	maxObjects  = 200_000
	maxInflated = 1 << 30  // bytes of all objects
	maxBlob     = 64 << 20 // bytes of one file
	maxEntries  = 100_000  // files of a commit
	maxPath     = 1000     // bytes of a path
	maxCheck    = 2 * time.Minute
)

// synced are git's settings for syncing to disk: everything that a commit needs, and the references.
const synced = "committed,reference"

// ErrTooMuch reports the exceeded limit of a push.
var ErrTooMuch = errors.New("the push is too large")

// receiving are git's settings for pushes: the maximum size, and writing large objects as they arrive.
func receiving(more ...[2]string) []string {
	settings := append([][2]string{{"receive.maxInputSize", strconv.Itoa(maxPack)}, {"core.bigFileThreshold", "1m"},
		{"transfer.unpackLimit", "1"}, {"pack.threads", "1"}, {"core.fsync", synced},
		{"receive.advertisePushOptions", "true"}}, more...)
	return configured(settings)
}

// configured returns the environment that passes settings to git, overriding its files.
func configured(settings [][2]string) []string {
	out := []string{"GIT_CONFIG_COUNT=" + strconv.Itoa(len(settings))}
	for i, s := range settings {
		out = append(out, fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", i, s[0]), fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", i, s[1]))
	}
	return out
}

// measure checks a push against the limits, without reading any content: small packs can contain very large
// trees and files.
func (r Repository) measure(ctx context.Context, to string) error {
	var count, total int64
	held := r.held
	if held == nil {
		held = []string{"--all"}
	}
	ids, sizes := r.command(ctx, append([]string{"rev-list", "--objects", "--no-object-names", to, "--not"}, held...)...),
		r.command(ctx, "cat-file", "--batch-check=%(objecttype) %(objectsize)")
	pipe, err := ids.StdoutPipe()
	if err != nil {
		return err
	}
	sizes.Stdin = pipe
	err = each(sizes, '\n', func(line string) error {
		kind, number, _ := strings.Cut(line, " ")
		size, err := strconv.ParseInt(number, 10, 64)
		if err != nil {
			return fmt.Errorf("measuring a push: %q", line)
		}
		count++
		total += size
		switch {
		case kind == "blob" && size > maxBlob:
			return fmt.Errorf("%w: a file of %d MiB; the limit is %d MiB", ErrTooMuch, size>>20, maxBlob>>20)
		case kind != "blob" && size > maxBlob:
			return fmt.Errorf("%w: a %s of %d MiB", ErrTooMuch, kind, size>>20)
		case count > maxObjects:
			return fmt.Errorf("%w: more than %d objects; push in several steps", ErrTooMuch, maxObjects)
		case total > maxInflated:
			return fmt.Errorf("%w: its objects have more than %d MiB in total; push in several steps",
				ErrTooMuch, maxInflated>>20)
		}
		return nil
	}, ids)
	if err != nil {
		return err
	}
	entries := 0
	return each(r.command(ctx, "ls-tree", "-r", "-z", "--name-only", "--end-of-options", to), 0, func(name string) error {
		entries++
		switch {
		case entries > maxEntries:
			return fmt.Errorf("%w: the commit has more than %d files", ErrTooMuch, maxEntries)
		case len(name) > maxPath:
			return fmt.Errorf("%w: a path of %d bytes; the limit is %d", ErrTooMuch, len(name), maxPath)
		}
		return nil
	})
}

// command returns a git command in the repository, as git runs its hooks.
func (r Repository) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append([]string{"--git-dir", r.dir}, args...)...)
	cmd.Env = append(os.Environ(), gitQuiet()...)
	cmd.WaitDelay = 30 * time.Second // on a busy machine the last output arrives late
	return cmd
}

// each calls do with each record of a command's output, and ends the commands when do fails.
func each(cmd *exec.Cmd, end byte, do func(piece string) error, before ...*exec.Cmd) error {
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	var said bytes.Buffer
	cmd.Stderr = &said
	all := append(before, cmd)
	for i, c := range all {
		if err := c.Start(); err != nil {
			for _, started := range all[:i] {
				_ = started.Process.Kill()
				_ = started.Wait()
			}
			return err
		}
	}
	reader := bufio.NewReaderSize(out, 64<<10)
	var failed error
	for failed == nil {
		piece, err := reader.ReadSlice(end)
		if err != nil && !(errors.Is(err, io.EOF) && len(piece) > 0) {
			if errors.Is(err, bufio.ErrBufferFull) {
				failed = fmt.Errorf("%w: a path of more than %d KiB", ErrTooMuch, reader.Size()>>10)
			} else if !errors.Is(err, io.EOF) {
				failed = err
			}
			break
		}
		failed = do(strings.TrimRight(string(piece), string(end)))
	}
	for _, c := range all {
		if failed != nil {
			_ = c.Process.Kill() // git may have ended
		}
		if err := c.Wait(); err != nil && failed == nil {
			failed = fmt.Errorf("measuring a push: %w: %s", err, strings.TrimSpace(said.String()))
		}
	}
	return failed
}
