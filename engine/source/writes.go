package source

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
)

// Writes is what somebody can change in a repository.
type Writes struct {
	Everything bool     `json:"everything,omitempty"` // also files outside of services, and new services
	Services   []string `json:"services,omitempty"`   // in which they have the right to write
	// Known are the folders of the repository's services, by name.
	Known map[string]string `json:"known,omitempty"`
	// Folders are folders that can be changed, whatever services are in them.
	Folders []string `json:"folders,omitempty"`
}

// Nothing reports whether nothing can be changed.
func (w Writes) Nothing() bool { return !w.Everything && len(w.Services)+len(w.Folders) == 0 }

// ServiceAt is a service in a folder of a commit; its name is "" if the manifest cannot be read.
type ServiceAt struct{ Dir, Name string }

// Refused returns why files cannot be changed, "" if they can: each belongs to the service in the innermost folder
// around it, before and after the change; a service that is not known is new.
func (w Writes) Refused(files []string, services ...ServiceAt) string {
	if w.Everything {
		return ""
	}
	for name, dir := range w.Known {
		services = append(services, ServiceAt{dir, name})
	}
	for _, file := range files {
		if slices.ContainsFunc(w.Folders, func(dir string) bool { return within(dir, file) }) {
			continue
		}
		deepest := -1
		var names []string
		for _, s := range services {
			depth := len(path.Clean("/" + s.Dir))
			switch {
			case !within(s.Dir, file) || depth < deepest:
			case depth > deepest:
				deepest, names = depth, []string{s.Name}
			default:
				names = append(names, s.Name)
			}
		}
		if deepest < 0 {
			return fmt.Sprintf("%s belongs to no service; changing it requires the right to write in the repository", file)
		}
		for _, name := range names {
			_, known := w.Known[name]
			switch {
			case name == "" && len(names) > 1: // its manifest is broken; the service that is known there decides
			case !known:
				return fmt.Sprintf("%s is in the new service %q; creating one requires the right to write in the repository", file, name)
			case !slices.Contains(w.Services, name):
				return fmt.Sprintf("%s belongs to the service %s, in which you do not have the right to write", file, name)
			}
		}
	}
	return ""
}

// within reports whether a file is in a folder; "." is the whole repository.
func within(dir, file string) bool {
	dir = path.Clean(dir)
	return dir == "." || strings.HasPrefix(file, dir+"/")
}

// Changed lists the files that a move of a branch changes: by its new commits, also by merges themselves, and, if a
// stage deploys from the branch, between its heads. A new branch is compared with the main branch.
func (r Repository) Changed(ctx context.Context, from, to string, deploys bool) ([]string, error) {
	held := r.held
	if len(held) == 0 {
		held = []string{"--all"}
	}
	args := append([]string{"log", "--format=", "--name-only", "--no-renames", "-c", "-z", to, "--not"}, held...)
	out, err := r.git(ctx, nil, nil, args...)
	if err != nil {
		return nil, fmt.Errorf("listing changed files: %w", err)
	}
	files := strings.FieldsFunc(string(out), func(c rune) bool { return c == 0 || c == '\n' })
	if from == zero {
		main, err := r.Main(ctx)
		if err != nil {
			return nil, err
		}
		heads, err := r.Heads(ctx)
		if err != nil {
			return nil, err
		}
		from = heads[main]
	}
	if deploys && from != "" && from != zero {
		out, err := r.git(ctx, nil, nil, "diff", "--name-only", "--no-renames", "-z", from, to)
		if err != nil {
			return nil, fmt.Errorf("comparing %.8s with %.8s: %w", from, to, err)
		}
		files = append(files, strings.FieldsFunc(string(out), func(c rune) bool { return c == 0 })...)
	}
	slices.Sort(files)
	return slices.Compact(files), nil
}

// servicesAt lists the services of a commit.
func servicesAt(list []Checked) []ServiceAt {
	var out []ServiceAt
	for _, c := range list {
		at := ServiceAt{Dir: c.Dir}
		if c.Result.Service != nil {
			at.Name = c.Result.Service.Name
		}
		out = append(out, at)
	}
	return out
}

// mayChange reports whether the pusher can make a change, and writes why not.
func (h Hook) mayChange(ctx context.Context, r Repository, branch, from, to string, deploys bool,
	before, after []Checked, out io.Writer) (bool, error) {
	if h.Writes == nil || h.Writes.Everything {
		return true, nil
	}
	files, err := r.Changed(ctx, from, to, deploys)
	if err != nil {
		return false, err
	}
	why := h.Writes.Refused(files, slices.Concat(servicesAt(before), servicesAt(after))...)
	if why != "" {
		fmt.Fprintf(out, "Rudmar: %s cannot be moved: %s.\n", branch, why)
	}
	return why == "", nil
}
