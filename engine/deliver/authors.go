package deliver

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"rudmar/core/delivery"
	"rudmar/engine/store"
)

// authorship is who pushed a version's commits, and who wrote those that a mirror pushed.
type authorship struct {
	pushers []string
	remote  string // the mirror; "" if there is none
	written []string
}

// wrote reports whether somebody wrote one of the commits that a mirror pushed, as its remote reports, by an email
// address or the username; known is false if they have no email address, so it cannot be told.
func (a authorship) wrote(p store.Person) (wrote, known bool) {
	for _, name := range a.written {
		local, _, _ := strings.Cut(name, "@")
		theirs := func(email string) bool { return strings.EqualFold(email, name) }
		if strings.EqualFold(local, p.Username) || slices.ContainsFunc(p.Emails, theirs) {
			return true, true
		}
	}
	return false, len(p.Emails) > 0 || a.remote == ""
}

// authors returns who pushed, as signed in, a commit that is in a version of this commit and not in the
// deployed one. A commit's own author field does not count, because anybody can write anything there.
func (l *StageLine) authors(ctx context.Context, service, stage, commit string) (authorship, error) {
	s, err := l.store.Service(ctx, service)
	if err != nil {
		return authorship{}, err
	}
	standing, err := l.store.Standing(ctx, service)
	if err != nil {
		return authorship{}, err
	}
	running := ""
	if n := standing[stage]; n > 0 {
		v, err := l.store.Version(ctx, service, n)
		if err != nil {
			return authorship{}, err
		}
		running = v.Hash
	}
	key := s.Repository + " " + running + " " + commit
	commits, known := l.ranges.Get(key)
	if !known {
		if commits, err = l.repository(s.Repository).Between(ctx, running, commit); err != nil {
			return authorship{}, err
		}
		l.ranges.Add(key, commits)
	}
	if len(commits) == 0 { // a rollback: its commits are deployed already
		commits = []string{commit}
	}
	pushers, err := l.store.PushersOf(ctx, s.Repository, commits)
	if err != nil {
		return authorship{}, err
	}
	var out authorship
	var mirrored []string
	for _, c := range commits {
		if len(pushers[c]) == 0 {
			return authorship{}, fmt.Errorf("the pusher of commit %.8s is unknown", c)
		}
		for _, p := range pushers[c] {
			if store.IsMirrorAccount(p) {
				out.remote, mirrored = p, append(mirrored, c)
			}
		}
		out.pushers = append(out.pushers, pushers[c]...)
	}
	slices.Sort(out.pushers)
	out.pushers = slices.Compact(out.pushers)
	if len(mirrored) > 0 {
		out.written, err = l.repository(s.Repository).Writers(ctx, mirrored)
	}
	return out, err
}

// authorFacts adds the authors of a version to the facts of its gates.
func (l *StageLine) authorFacts(ctx context.Context, service, stage, commit string, f *delivery.Facts) error {
	who, err := l.authors(ctx, service, stage, commit)
	if err != nil {
		f.Unknown = err.Error()
		return nil
	}
	f.Authors, f.Remote = who.pushers, who.remote
	if who.remote == "" {
		return nil
	}
	for _, a := range f.Approvals {
		p, err := l.store.Person(ctx, a.Person)
		if err != nil {
			return err
		}
		switch wrote, known := who.wrote(p); {
		case wrote && !slices.Contains(f.Authors, a.Person):
			f.Authors = append(f.Authors, a.Person)
		case !known:
			f.Unmatched = append(f.Unmatched, a.Person)
		}
	}
	return nil
}
