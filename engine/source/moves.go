package source

import (
	"context"
	"fmt"
	"strings"
)

// Nothing is git's name for no commit: the former head of a new branch.
const Nothing = zero

// Move is a move of a branch by somebody.
type Move struct {
	Before, After string // Before is Nothing for a new branch.
	Person        string // as signed in
}

// Moves lists the moves of a branch, oldest first, from git's reflog: git writes it together with the move
// itself, in the name of the user who was signed in, so it is complete even if nobody was there to record a
// push.
func (r Repository) Moves(ctx context.Context, branch string) ([]Move, error) {
	out, err := r.git(ctx, nil, nil, "log", "--walk-reflogs", "--format=%H%x1f%gn", "--end-of-options",
		"refs/heads/"+branch, "--")
	if err != nil {
		return nil, fmt.Errorf("reading how %s was moved: %w", branch, err)
	}
	var moves []Move
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	before := Nothing
	for i := len(lines) - 1; i >= 0; i-- {
		hash, person, ok := strings.Cut(lines[i], "\x1f")
		if !ok {
			continue
		}
		moves = append(moves, Move{Before: before, After: hash, Person: person})
		before = hash
	}
	return moves, nil
}

// Between lists the commits that are in to and not in from; all of to if from is "", Nothing, or not in the
// repository.
func (r Repository) Between(ctx context.Context, from, to string) ([]string, error) {
	args := []string{"rev-list", "--end-of-options", to}
	if from != "" && from != Nothing {
		if _, err := r.git(ctx, nil, nil, "cat-file", "-e", from+"^{commit}"); err == nil {
			args = append(args, "^"+from)
		}
	}
	out, err := r.git(ctx, nil, nil, args...)
	if err != nil {
		return nil, fmt.Errorf("listing commits up to %.8s: %w", to, err)
	}
	return strings.Fields(string(out)), nil
}
