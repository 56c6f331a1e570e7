package store

import (
	"context"
	"time"
)

// Session is a user's session. Its token is stored as a hash.
type Session struct {
	ID             int64
	Username, CSRF string
	Made, Used     time.Time // used: to the minute
	Until          time.Time
	Address        string // from where it was started
}

// IdleLength is how long a session lasts without requests.
const IdleLength = 2 * time.Hour

// addressesKept is the number of addresses of a user that are remembered.
const addressesKept = 50

const sessionColumns = `id, handle, csrf, made_at, used_at, until, address`

func takeSession(r scanner) (Session, error) {
	var v Session
	var made, used, until int64
	err := r.Scan(&v.ID, &v.Username, &v.CSRF, &made, &used, &until, &v.Address)
	v.Made, v.Used, v.Until = millis(made), millis(used), millis(until)
	return v, err
}

// AddSession stores a session under its token's hash, remembers its address, and writes the sign-in to the journal.
func (s *Store) AddSession(ctx context.Context, tokenHash string, v Session) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO sessions (token, id, handle, csrf, made_at, used_at, until, address)
			VALUES (?1, (SELECT coalesce(max(id), 0) + 1 FROM sessions), ?2, ?3, ?4, ?4, ?5, ?6)`, tokenHash, v.Username, v.CSRF,
			s.stamp(), v.Until.UnixMilli(), v.Address); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO sign_in_addresses (handle, address, at) VALUES (?,?,?)
			ON CONFLICT DO UPDATE SET at = excluded.at`, v.Username, v.Address, s.stamp()); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM sign_in_addresses WHERE handle = ?1 AND address NOT IN (
			SELECT address FROM sign_in_addresses WHERE handle = ?1 ORDER BY at DESC LIMIT ?2)`, v.Username, addressesKept); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: v.Username, What: "signed in", Text: "from " + v.Address})
	})
}

// SignedInFrom reports whether a user has signed in from an address before.
func (s *Store) SignedInFrom(ctx context.Context, username, address string) (bool, error) {
	return one(ctx, s.read, scanBool, `SELECT EXISTS (SELECT 1 FROM sign_in_addresses WHERE handle = ? AND address = ?)`,
		username, address)
}

// Session returns a session that has not ended.
func (s *Store) Session(ctx context.Context, tokenHash string) (Session, error) {
	return one(ctx, s.read, takeSession, `SELECT `+sessionColumns+` FROM sessions WHERE token = ? AND until > ? AND used_at > ?`,
		tokenHash, s.stamp(), s.Now().Add(-IdleLength).UnixMilli())
}

// UseSession records that a session was used, once a minute.
func (s *Store) UseSession(ctx context.Context, v Session) error {
	if now := s.Now(); now.Sub(v.Used) < time.Minute && !now.Before(v.Used) {
		return nil
	}
	return s.exec(ctx, `UPDATE sessions SET used_at = ? WHERE id = ?`, s.stamp(), v.ID)
}

// Sessions lists a user's sessions, the newest first.
func (s *Store) Sessions(ctx context.Context, username string) ([]Session, error) {
	return list(ctx, s.read, takeSession, `SELECT `+sessionColumns+` FROM sessions
		WHERE handle = ? AND until > ? AND used_at > ? ORDER BY id DESC`, username, s.stamp(),
		s.Now().Add(-IdleLength).UnixMilli())
}

// EndSession ends a session, and deletes expired ones.
func (s *Store) EndSession(ctx context.Context, tokenHash string) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE token = ? OR until < ? OR used_at < ?`, tokenHash, s.stamp(),
		s.Now().Add(-IdleLength).UnixMilli())
}

// EndOwnSession ends a user's session by its ID, with a line of the journal; ErrNotFound if it is not theirs.
func (s *Store) EndOwnSession(ctx context.Context, username string, id int64) error {
	return s.Within(ctx, func(tx Tx) error {
		from, err := one(ctx, tx, takeText, `DELETE FROM sessions WHERE handle = ? AND id = ? RETURNING address`, username, id)
		if err != nil {
			return Missing(err, "session %d of %s", id, username)
		}
		return tx.Note(ctx, Entry{Person: username, What: "session ended", Text: "the one from " + from})
	})
}
