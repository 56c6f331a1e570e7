package local

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/google/renameio/v2"

	"rudmar/core/pack"
)

// archives stores the archives of revisions, by digest, and detects missing and damaged ones: such a revision
// is shown without its archive, so the next deployment uploads it again.
type archives struct {
	dir     string
	log     *slog.Logger
	changed func() // the shown state of revisions changes

	mu   sync.Mutex
	seen map[string]fileStamp // their state when they were complete
	lost map[string]bool
}

// fileStamp changes with a file.
type fileStamp struct {
	size int64
	at   time.Time
}

func newArchives(dir string, log *slog.Logger, changed func()) *archives {
	return &archives{dir: dir, log: log, changed: changed, seen: map[string]fileStamp{}, lost: map[string]bool{}}
}

func (a *archives) file(digest string) string {
	return filepath.Join(a.dir, strings.TrimPrefix(digest, "sha256:")+".zip")
}

// put stores an archive whose digest was verified.
func (a *archives) put(digest string, archive []byte) error {
	if err := renameio.WriteFile(a.file(digest), archive, 0o600); err != nil {
		return fmt.Errorf("storing an archive: %w", err)
	}
	a.mu.Lock()
	was := a.lost[digest]
	delete(a.lost, digest)
	a.mu.Unlock()
	if was {
		a.changed()
	}
	return nil
}

// read returns the content of an archive, and records damage.
func (a *archives) read(digest string) ([]pack.Entry, error) {
	text, err := os.ReadFile(a.file(digest))
	if err != nil {
		err = fmt.Errorf("reading an archive: %w", err)
	}
	var entries []pack.Entry
	if err == nil {
		entries, err = pack.Read(text, digest)
	}
	if err != nil {
		a.lose(digest, err)
	}
	return entries, err
}

// whole reports whether an archive is stored and undamaged.
func (a *archives) whole(digest string) bool {
	info, err := os.Stat(a.file(digest))
	if err != nil {
		return false
	}
	now := fileStamp{info.Size(), info.ModTime()}
	a.mu.Lock()
	known := a.seen[digest]
	a.mu.Unlock()
	if known == now {
		return true
	}
	if _, err := a.read(digest); err != nil {
		return false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.seen[digest] = now
	return true
}

func (a *archives) isLost(digest string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.lost[digest]
}

func (a *archives) lose(digest string, err error) {
	a.mu.Lock()
	was := a.lost[digest]
	a.lost[digest] = true
	delete(a.seen, digest)
	a.mu.Unlock()
	if !was {
		a.log.Error("an archive was altered; requesting it again", "digest", digest, "error", err)
		a.changed()
	}
}

// checkArchives verifies every archive of a revision, at the start and every hour: a disk may lose data that
// nobody reads.
func (p *Platform) checkArchives(ctx context.Context) {
	tick := time.NewTicker(time.Hour)
	defer tick.Stop()
	for {
		digests, err := p.store.currentArchives(ctx)
		if err != nil && ctx.Err() == nil {
			p.options.Log.Error("checking the archives", "error", err)
		}
		for _, digest := range digests {
			if ctx.Err() != nil {
				return
			}
			if !p.archives.whole(digest) {
				p.archives.lose(digest, errors.New("missing or altered"))
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// currentArchives lists the archives of the revisions that scopes show.
func (s *store) currentArchives(ctx context.Context) ([]string, error) {
	rows, err := s.db.QueryContext(ctx,
		`SELECT DISTINCT json_extract(attributes, '$.artifact') FROM resources WHERE kind = 'revision'`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var digest string
		if err := rows.Scan(&digest); err != nil {
			return nil, err
		}
		out = append(out, digest)
	}
	return out, rows.Err()
}

// showAnew invalidates the snapshots of all scopes.
func (p *Platform) showAnew() {
	p.fingerprints.forget()
	if _, err := p.store.db.Exec(`UPDATE changes SET n = n + 1`); err != nil {
		p.options.Log.Error("reporting changed archives", "error", err)
	}
}
