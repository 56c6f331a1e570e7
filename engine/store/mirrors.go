package store

import (
	"context"
	"strings"
	"time"
)

// Mirror has the settings and the state of a mirror.
type Mirror struct {
	Repository, URL string
	User            string // username on the remote; "" for none
	Sealed          []byte // its password or token
	Key             []byte // encrypted; signs push notifications
	Every           time.Duration
	Person          string   // who set it up, or took it over
	Folders         []string // in which it can change files; "." for all
	Made            time.Time
	Tried, Read     time.Time // times of the last attempt and of the last success
	Error           string    // the error of the last attempt
}

// machinePrefix is the prefix of the machine accounts of mirrors; no username contains a space.
const machinePrefix = "mirror "

// MirrorAccount returns the machine account of a repository's mirror, which pushes its commits.
func MirrorAccount(repository string) string { return machinePrefix + repository }

// IsMirrorAccount reports whether a pusher is a mirror.
func IsMirrorAccount(person string) bool { return strings.HasPrefix(person, machinePrefix) }

const mirrorColumns = `repository, url, user, sealed, key, every, person, made_at, tried_at, read_at, error, folders`

func takeMirror(r scanner) (Mirror, error) {
	var m Mirror
	var every, made, tried, read int64
	var folders string
	err := r.Scan(&m.Repository, &m.URL, &m.User, &m.Sealed, &m.Key, &every, &m.Person, &made, &tried,
		&read, &m.Error, &folders)
	m.Folders = strings.Split(folders, "\n")
	m.Every, m.Made, m.Tried, m.Read = time.Duration(every)*time.Second, millis(made), millis(tried), millis(read)
	return m, err
}

// Mirrors lists all of them.
func (s *Store) Mirrors(ctx context.Context) ([]Mirror, error) {
	return list(ctx, s.read, takeMirror, `SELECT `+mirrorColumns+` FROM mirrors ORDER BY repository`)
}

// Mirror returns a repository's mirror settings; ErrNotFound if it is not a mirror.
func (s *Store) Mirror(ctx context.Context, repository string) (Mirror, error) {
	return one(ctx, s.read, takeMirror, `SELECT `+mirrorColumns+` FROM mirrors WHERE repository = ?`, repository)
}

// PutMirror makes a repository a mirror, in place of its former remote.
func (s *Store) PutMirror(ctx context.Context, m Mirror) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO mirrors (`+mirrorColumns+`) VALUES (?,?,?,?,?,?,?,?,0,0,'',?)
			ON CONFLICT DO UPDATE SET url = excluded.url, user = excluded.user, sealed = excluded.sealed, key = excluded.key,
				every = excluded.every, folders = excluded.folders, person = excluded.person, made_at = excluded.made_at, tried_at = 0, read_at = 0, error = ''`,
			m.Repository, m.URL, m.User, m.Sealed, m.Key, int64(m.Every/time.Second), m.Person, s.stamp(),
			strings.Join(m.Folders, "\n")); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: m.Person, What: "mirror", Text: m.Repository + " mirrors " + m.URL})
	})
}

// TakeOverMirror makes a mirror act for another person; ErrNotFound if the repository is none.
func (s *Store) TakeOverMirror(ctx context.Context, repository, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		former, err := one(ctx, tx, takeText, `SELECT person FROM mirrors WHERE repository = ?`, repository)
		if err != nil {
			return Missing(err, "mirror of %s", repository)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE mirrors SET person = ?, tried_at = 0, error = '' WHERE repository = ?`, person,
			repository); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: person, What: "mirror", Text: repository + ": taken over from " + former})
	})
}

// DeleteMirror ends a mirror; ErrNotFound if the repository is none.
func (s *Store) DeleteMirror(ctx context.Context, repository, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `DELETE FROM mirrors WHERE repository = ?`, repository)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return notFoundUnless(err)
		}
		return tx.Note(ctx, Entry{Person: person, What: "mirror", Text: repository + " is no longer a mirror"})
	})
}

// RecordFetch stores the result of a fetch; "" for success.
func (s *Store) RecordFetch(ctx context.Context, repository, problem string) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE mirrors SET tried_at = ?1, error = ?2, read_at = CASE ?2 WHEN '' THEN ?1 ELSE read_at END
			WHERE repository = ?3`, s.stamp(), problem, repository); err != nil {
			return err
		}
		return tx.Publish(ctx, "", TopicMirror, map[string]any{"repository": repository})
	})
}
