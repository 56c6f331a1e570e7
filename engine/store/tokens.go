package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/rights"
)

// Token describes a token, without its text.
type Token struct {
	ID             int64
	Username, Name string
	Grants         []rights.Grant // of permissions alone
	Made, Until    time.Time
	Ended          time.Time // zero if it was not revoked
	Used           time.Time // zero if never used; to the minute
	From           string    // the address of its last use
}

// Rights returns the rights of the token, which narrow its creator's.
func (t Token) Rights() *rights.Token { return &rights.Token{Name: t.Name, Grants: t.Grants} }

// Scopes lists the scopes of a token; none if it is for everywhere.
func (t Token) Scopes() []string {
	out := []string{}
	for _, g := range t.Grants {
		if text := scopeText(g.In); text != "" && !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return out
}

// ErrTokenNamed reports that somebody has a token of that name.
var ErrTokenNamed = errors.New("the name is in use; revoke the other token first, or choose another name")

const tokenColumns = `id, handle, name, made_at, until, ended_at, used_at, used_from,
	(SELECT json_group_array(json_array(granted, scope)) FROM rights WHERE kind = 'token' AND subject = id)`

func scanToken(r scanner) (Token, error) {
	var t Token
	var grants string
	var made, until, ended, used int64
	err := r.Scan(&t.ID, &t.Username, &t.Name, &made, &until, &ended, &used, &t.From, &grants)
	if err != nil {
		return t, err
	}
	t.Made, t.Until, t.Ended, t.Used = millis(made), millis(until), millis(ended), millis(used)
	t.Grants, err = grantsOf(grants)
	return t, err
}

// AddToken stores a token under its hash. A name that its creator uses for another one is ErrTokenNamed; an
// expired one gives up its name.
func (s *Store) AddToken(ctx context.Context, hash string, t Token) (id int64, err error) {
	err = s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx,
			`UPDATE tokens SET ended_at = until WHERE handle = ? AND name = ? AND ended_at = 0 AND until <= ?`,
			t.Username, t.Name, s.stamp()); err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx,
			`INSERT INTO tokens (handle, name, hash, made_at, until) VALUES (?,?,?,?,?) ON CONFLICT DO NOTHING`,
			t.Username, t.Name, hash, s.stamp(), t.Until.UnixMilli())
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("%w: %s", ErrTokenNamed, t.Name))
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		if _, err := tx.setGrants(ctx, tokenSubject, strconv.FormatInt(id, 10), t.Grants, t.Username); err != nil {
			return err
		}
		where := "everywhere"
		if scopes := t.Scopes(); len(scopes) > 0 {
			where = strings.Join(scopes, ", ")
		}
		return tx.Note(ctx, Entry{Person: t.Username, What: "token created", Text: fmt.Sprintf("%s, %s in %s, expires %s", t.Name,
			rights.Join(t.Rights().Permissions()), where, t.Until.UTC().Format("2 January 2006"))})
	})
	return id, err
}

// Token returns the token of a hash, also an ended one.
func (s *Store) Token(ctx context.Context, hash string) (Token, error) {
	return one(ctx, s.read, scanToken, `SELECT `+tokenColumns+` FROM tokens WHERE hash = ?`, hash)
}

// Tokens lists somebody's active tokens, and those that ended in the last week; newest first.
func (s *Store) Tokens(ctx context.Context, username string) ([]Token, error) {
	return list(ctx, s.read, scanToken, `SELECT `+tokenColumns+` FROM tokens
		WHERE handle = ? AND ended_at = 0 AND until > ? ORDER BY id DESC`, username,
		s.Now().Add(-7*24*time.Hour).UnixMilli())
}

// UsedToken notes that a token was used from an address; once a minute, unless the
// address is another.
func (s *Store) UsedToken(ctx context.Context, t Token, from string) error {
	if now := s.Now(); from == t.From && now.Sub(t.Used) < time.Minute && !now.Before(t.Used) {
		return nil
	}
	return s.exec(ctx, `UPDATE tokens SET used_at = ?, used_from = ? WHERE id = ?`, s.stamp(), from, t.ID)
}

// RevokeToken revokes somebody's token. If it is not theirs, or has ended, the error is ErrNotFound.
func (s *Store) RevokeToken(ctx context.Context, username string, id int64) error {
	return s.Within(ctx, func(tx Tx) error {
		name, err := one(ctx, tx, takeText, `UPDATE tokens SET ended_at = ? WHERE id = ? AND handle = ? AND ended_at = 0 RETURNING name`, s.stamp(), id, username)
		if err != nil {
			return Missing(err, "token %d of %s", id, username)
		}
		return tx.Note(ctx, Entry{Person: username, What: "token revoked", Text: name})
	})
}

// TokenValid reports whether a token is neither revoked nor expired.
func (s *Store) TokenValid(ctx context.Context, id int64) (bool, error) {
	return one(ctx, s.read, scanBool, `SELECT EXISTS (SELECT 1 FROM tokens WHERE id = ? AND ended_at = 0 AND until > ?)`,
		id, s.stamp())
}

// PlaceOfPlan returns the place of a plan.
func (s *Store) PlaceOfPlan(ctx context.Context, id int64) (manifest.Place, error) {
	p, err := one(ctx, s.read, takePlace, `SELECT service, stage, target FROM plans WHERE id = ?`, id)
	if err != nil {
		err = Missing(err, "plan %d", id)
	}
	return p, err
}

// PlaceOfDeployment returns the place of a deployment.
func (s *Store) PlaceOfDeployment(ctx context.Context, id int64) (manifest.Place, error) {
	p, err := one(ctx, s.read, takePlace, `SELECT service, stage, target FROM deployments WHERE id = ?`, id)
	if err != nil {
		err = Missing(err, "deployment %d", id)
	}
	return p, err
}

func takePlace(r scanner) (manifest.Place, error) {
	var p manifest.Place
	var target string
	err := r.Scan(&p.Service, &p.Stage, &target)
	p.Target = manifest.ParseTarget(target)
	return p, err
}

type throughKey struct{}

// Through marks later operations as done by a token, for the journal.
func Through(ctx context.Context, token string) context.Context {
	return context.WithValue(ctx, throughKey{}, token)
}

func through(ctx context.Context) string {
	token, _ := ctx.Value(throughKey{}).(string)
	return token
}
