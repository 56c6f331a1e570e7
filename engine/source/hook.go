package source

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
)

// ErrRefused tells that a push may not be taken.
var ErrRefused = errors.New("the push is refused")

// PreReceive is what git runs before it takes a push: it reads the branches
// that are to move from in, checks the manifests as they would stand, and
// writes what is wrong to out. It runs in git's own process, where the pushed
// objects can be read though they are not yet taken.
func PreReceive(ctx context.Context, offers *check.Offers, in io.Reader, out io.Writer) error {
	r := At(".")
	if dir := os.Getenv("GIT_DIR"); dir != "" {
		r = At(dir)
	}
	ctx, cancel := context.WithTimeout(ctx, maxCheck)
	defer cancel()
	refused := false
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) != 3 || !strings.HasPrefix(f[2], "refs/heads/") {
			if len(f) == 3 && f[1] != zero {
				if err := r.measure(ctx, f[1]); err != nil {
					fmt.Fprintf(out, "Rudmar: %v.\n", err)
					refused = true
				}
			}
			continue
		}
		branch := strings.TrimPrefix(f[2], "refs/heads/")
		ok, err := r.mayMove(ctx, offers, branch, f[0], f[1], out)
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			fmt.Fprintf(out, "Rudmar: checking %s took longer than %s, so that the push is not taken; push less at once.\n", branch, maxCheck)
			return ErrRefused
		}
		if err != nil {
			return fmt.Errorf("checking %s: %w", branch, err)
		}
		refused = refused || !ok
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("reading what is pushed: %w", err)
	}
	if refused {
		return ErrRefused
	}
	return nil
}

func (r Repository) mayMove(ctx context.Context, offers *check.Offers, branch, from, to string, out io.Writer) (bool, error) {
	main, err := r.Main(ctx)
	if err != nil {
		return false, err
	}
	taken := branch == main
	if from != zero {
		before, err := r.checkAll(ctx, offers, from)
		if err != nil {
			return false, err
		}
		taken = taken || takes(before, branch)
	}
	if to == zero {
		if taken {
			fmt.Fprintf(out, "Rudmar: the branch %s is taken by a stage and cannot be deleted.\n", branch)
		}
		return !taken, nil
	}
	switch err := r.measure(ctx, to); {
	case errors.Is(err, ErrTooMuch):
		fmt.Fprintf(out, "Rudmar: %v.\n", err)
		return false, nil
	case err != nil:
		return false, err
	}
	services, err := r.checkAll(ctx, offers, to)
	if err != nil {
		return false, err
	}
	taken = taken || takes(services, branch)
	ok := true
	for _, s := range services {
		if taken && !s.Result.OK() {
			ok = false
			Tell(out, branch, s)
		}
	}
	return ok, nil
}

// Checked is a service of a commit with what a check found.
type Checked struct {
	Dir    string
	Folder *Folder
	Result check.Result
}

// checkAll checks every service of a commit.
func (r Repository) checkAll(ctx context.Context, offers *check.Offers, commit string) ([]Checked, error) {
	all, err := r.Folder(ctx, commit, ".")
	if err != nil {
		return nil, err
	}
	var out []Checked
	for _, dir := range manifest.Services(all.Files()) {
		c, err := r.Check(ctx, offers, commit, dir)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// Check checks the service in a folder of a commit.
func (r Repository) Check(ctx context.Context, offers *check.Offers, commit, dir string) (Checked, error) {
	c := Checked{Dir: dir}
	var err error
	if c.Folder, err = r.Folder(ctx, commit, dir); err != nil {
		return c, err
	}
	c.Result = check.Options{Offers: offers}.Service(c.Folder)
	return c, nil
}

func takes(services []Checked, branch string) bool {
	return slices.ContainsFunc(services, func(c Checked) bool {
		return c.Result.Service != nil && slices.ContainsFunc(c.Result.Service.Stages, func(s manifest.Stage) bool {
			return s.On == manifest.OnPush && s.Branch == branch
		})
	})
}

// toldProblems is how many problems a refused push tells of one service.
const toldProblems = 20

// Tell writes what is wrong with a service, as somebody reads it who pushed.
func Tell(out io.Writer, branch string, c Checked) {
	name := c.Dir
	if c.Result.Service != nil && c.Result.Service.Name != "" {
		name = c.Result.Service.Name
	}
	errorsFound := 0
	for _, d := range c.Result.Diagnostics {
		if d.Severity == diagnostic.Error {
			errorsFound++
		}
	}
	fmt.Fprintf(out, "\nRudmar: a stage takes the branch %s, but %s has %d problems:\n\n", branch, name, errorsFound)
	told := 0
	for _, d := range c.Result.Diagnostics {
		if d.Severity != diagnostic.Error {
			continue
		}
		if told++; told > toldProblems {
			fmt.Fprintf(out, "and %d more\n", errorsFound-toldProblems)
			break
		}
		file := d.File
		if c.Dir != "." {
			d.File = path.Join(c.Dir, d.File)
		}
		fmt.Fprintln(out, d)
		if text, err := c.Folder.Read(file); err == nil {
			fmt.Fprintln(out, d.Excerpt(text))
		}
	}
	fmt.Fprintf(out, "\nMend them and push again, or push to another branch. `rudmar check` tells the same before you push.\n\n")
}
