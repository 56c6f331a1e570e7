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
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// ErrDenied reports a rejected push.
var ErrDenied = errors.New("the push was refused")

// Hook has the checks of a push.
type Hook struct {
	Offers *check.Offers
	// Owner returns the repository of a service, "" for an unknown one.
	Owner func(ctx context.Context, service string) (repository string, err error)
	// Repository is the name of the repository of the push.
	Repository string
	// Writes is what the pusher can change; nil for everything.
	Writes *Writes
}

// PreReceive is git's hook before it accepts a push: it reads the moved branches from in, checks the manifests
// of their new heads, and writes errors to out. It runs as a child process of git, in which the pushed objects
// can be read before they are accepted.
func (h Hook) PreReceive(ctx context.Context, in io.Reader, out io.Writer) error {
	r := At(".")
	if dir := os.Getenv("GIT_DIR"); dir != "" {
		r = At(dir)
	}
	for _, option := range pushOptions() {
		if option != WaitOption {
			fmt.Fprintf(out, "Rudmar: unknown push option %q (expected %s, which reports the progress of the version).\n", option,
				WaitOption)
			return ErrDenied
		}
	}
	ctx, cancel := context.WithTimeout(ctx, maxCheck)
	defer cancel()
	refused := false
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) != 3 {
			continue
		}
		ok, err := h.canAccept(ctx, r, f[0], f[1], f[2], out)
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			fmt.Fprintf(out, "Rudmar: checking %s took longer than %s, so the push was refused; push less at once.\n",
				f[2], maxCheck)
			return ErrDenied
		}
		if err != nil {
			return fmt.Errorf("checking %s: %w", f[2], err)
		}
		refused = refused || !ok
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("reading what is pushed: %w", err)
	}
	if refused {
		return ErrDenied
	}
	return nil
}

// canAccept returns why a reference cannot move. Only branches and tags are accepted: others, such as
// refs/replace, change what git reads.
func (h Hook) canAccept(ctx context.Context, r Repository, from, to, ref string,
	out io.Writer) (bool, error) {
	if branch, ok := strings.CutPrefix(ref, "refs/heads/"); ok {
		if strings.HasPrefix(branch, "refs/") { // its short name would be that of another reference
			fmt.Fprintf(out, "Rudmar: a branch cannot be named %s, like a reference.\n", branch)
			return false, nil
		}
		return h.canUpdate(ctx, r, branch, from, to, out)
	}
	if !strings.HasPrefix(ref, "refs/tags/") {
		fmt.Fprintf(out, "Rudmar: %s is neither a branch nor a tag; only these are accepted.\n", ref)
		return false, nil
	}
	if to == zero {
		return true, nil
	}
	if err := r.measure(ctx, to); err != nil {
		fmt.Fprintf(out, "Rudmar: %v.\n", err)
		return false, nil
	}
	return true, nil
}

func (h Hook) canUpdate(ctx context.Context, r Repository, branch, from, to string,
	out io.Writer) (bool, error) {
	main, err := r.Main(ctx)
	if err != nil {
		return false, err
	}
	taken := branch == main
	var before []Checked
	if from != zero {
		if before, err = r.checkAll(ctx, h.Offers, from); err != nil {
			return false, err
		}
		taken = taken || deploysFrom(before, branch)
	}
	if to == zero {
		if taken {
			fmt.Fprintf(out, "Rudmar: a stage deploys the branch %s, so it cannot be deleted.\n", branch)
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
	services, err := r.checkAll(ctx, h.Offers, to)
	if err != nil {
		return false, err
	}
	taken = taken || deploysFrom(services, branch)
	ok, err := h.mayChange(ctx, r, branch, from, to, taken, before, services, out)
	if err != nil || !ok {
		return false, err
	}
	for _, s := range services {
		if taken && !s.Result.OK() {
			ok = false
			WriteCheck(out, branch, s)
		}
		own, err := h.owns(ctx, s, out)
		if err != nil {
			return false, err
		}
		ok = ok && own
	}
	return ok, nil
}

// owns returns why the repository cannot contain a service: a service belongs to one repository.
func (h Hook) owns(ctx context.Context, s Checked, out io.Writer) (bool, error) {
	if h.Owner == nil || s.Result.Service == nil || s.Result.Service.Name == "" {
		return true, nil
	}
	owner, err := h.Owner(ctx, s.Result.Service.Name)
	if err != nil || owner == "" || owner == h.Repository {
		return err == nil, err
	}
	fmt.Fprintf(out, "Rudmar: the service %s belongs to the repository %s, so %s cannot contain it; rename it in %s, or move it (rudmar service move).\n",
		s.Result.Service.Name, owner, h.Repository, path.Join(s.Dir, language.ServiceFile))
	return false, nil
}

// Checked is a service of a commit with the result of its check.
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

func deploysFrom(services []Checked, branch string) bool {
	return slices.ContainsFunc(services, func(c Checked) bool {
		return c.Result.Service != nil && slices.ContainsFunc(c.Result.Service.Stages, func(s manifest.Stage) bool {
			return s.When == manifest.OnPush && s.Branch == branch
		})
	})
}

// toldProblems is the maximum number of diagnostics per service after a rejected push.
const toldProblems = 20

// WriteCheck writes the diagnostics of a service, for people who push.
func WriteCheck(out io.Writer, branch string, c Checked) {
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
	fmt.Fprintf(out, "\nRudmar: a stage deploys the branch %s, but %s has %s:\n\n", branch, name,
		language.FormatCount(errorsFound, "problem"))
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
	fmt.Fprintf(out, "\nFix the errors and push again, or push to another branch. `rudmar check` shows the same errors before you push.\n\n")
}
