package deliver

import (
	"context"
	"fmt"
	"slices"
)

// authors returns who pushed, as signed in, a commit that is in a version of this commit and not in the
// deployed one. A commit's own author field does not count, because anybody can write anything there.
func (l *StageLine) authors(ctx context.Context, service, stage, commit string) ([]string, error) {
	s, err := l.store.Service(ctx, service)
	if err != nil {
		return nil, err
	}
	standing, err := l.store.Standing(ctx, service)
	if err != nil {
		return nil, err
	}
	running := ""
	if n := standing[stage]; n > 0 {
		v, err := l.store.Version(ctx, service, n)
		if err != nil {
			return nil, err
		}
		running = v.Hash
	}
	key := s.Repository + " " + running + " " + commit
	commits, known := l.ranges.Get(key)
	if !known {
		if commits, err = l.repository(s.Repository).Between(ctx, running, commit); err != nil {
			return nil, err
		}
		l.ranges.Add(key, commits)
	}
	if len(commits) == 0 { // a rollback: its commits are deployed already
		commits = []string{commit}
	}
	pushers, err := l.store.PushersOf(ctx, s.Repository, commits)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, c := range commits {
		if len(pushers[c]) == 0 {
			return nil, fmt.Errorf("the pusher of commit %.8s is unknown", c)
		}
		out = append(out, pushers[c]...)
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}
