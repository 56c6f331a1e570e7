package source

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Lines returns the commits that wrote lines of a file, at a commit.
func (r Repository) Lines(ctx context.Context, commit, path string, lines []int) (map[int]Commit, error) {
	args := []string{"blame", "--porcelain"}
	for _, n := range lines {
		args = append(args, "-L", fmt.Sprintf("%d,%d", n, n))
	}
	out, err := r.git(ctx, nil, nil, append(args, commit, "--", path)...)
	if err != nil {
		return nil, fmt.Errorf("finding the author of %s: %w", path, err)
	}
	commits, byLine := map[string]*Commit{}, map[int]string{}
	var at *Commit
	for line := range strings.Lines(string(out)) {
		key, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		switch {
		case len(key) == 40 && !strings.HasPrefix(line, "\t"):
			if commits[key] == nil {
				commits[key] = &Commit{Hash: key}
			}
			at = commits[key]
			if f := strings.Fields(value); len(f) >= 2 {
				if n, err := strconv.Atoi(f[1]); err == nil {
					byLine[n] = key
				}
			}
		case at == nil:
		case key == "author":
			at.Author = value
		case key == "summary":
			at.Message = value
		case key == "author-time":
			seconds, _ := strconv.ParseInt(value, 10, 64)
			at.At = time.Unix(seconds, 0)
		}
	}
	found := map[int]Commit{}
	for n, hash := range byLine {
		found[n] = *commits[hash]
	}
	return found, nil
}

// Writers lists the email addresses and names of authors and committers of commits, as the commits say.
func (r Repository) Writers(ctx context.Context, commits []string) ([]string, error) {
	out, err := r.git(ctx, nil, strings.NewReader(strings.Join(commits, "\n")), "log", "--no-walk=unsorted", "--stdin",
		"--format=%ae%n%an%n%ce%n%cn")
	if err != nil {
		return nil, fmt.Errorf("reading the authors of %d commits: %w", len(commits), err)
	}
	names := strings.FieldsFunc(string(out), func(c rune) bool { return c == '\n' })
	slices.Sort(names)
	return slices.Compact(names), nil
}

// mostTouches is the maximum number of commits of a folder to search for the authors of its files.
const mostTouches = 5000

// WrittenOnce returns the files of a folder that only one commit has ever touched, with its hash: it wrote all
// their lines. It leaves out files that were moved, merged or changed since, for which [Repository.Lines]
// works.
func (r Repository) WrittenOnce(ctx context.Context, commit, dir string) (map[string]string, error) {
	// Whole commits are compared, so a file moved from another folder is not new.
	out, err := r.git(ctx, nil, nil, "log", "-n", strconv.Itoa(mostTouches+1), "-c", "-M", "--full-diff", "--name-status",
		"-z", "--format=%H", "--end-of-options", commit, "--", dir)
	if err != nil {
		return nil, fmt.Errorf("finding the author of %s: %w", dir, err)
	}
	added, touched, commits := map[string]string{}, map[string]int{}, 0
	hash, words := "", strings.Split(string(out), "\x00")
	for len(words) > 0 {
		word := strings.TrimPrefix(words[0], "\n")
		words = words[1:]
		switch {
		case word == "": // before a merge's parents
			continue
		case len(word) >= 40:
			hash, commits = word, commits+1
			continue
		}
		paths := 1
		if moved := strings.TrimLeft(word, "RC"); len(word)-len(moved) == 1 && moved != "" {
			paths = 2 // R100: the former and the present path
		}
		for range min(paths, len(words)) {
			touched[words[0]]++
			if word == "A" {
				added[words[0]] = hash
			}
			words = words[1:]
		}
	}
	if commits > mostTouches {
		return nil, nil // older history is not read
	}
	maps.DeleteFunc(added, func(name, _ string) bool { return touched[name] > 1 })
	return added, nil
}
