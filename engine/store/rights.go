package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"rudmar/core/rights"
)

// SubjectKind is the kind of a right's subject.
type SubjectKind string

// The kinds of subjects.
const (
	UserSubject  SubjectKind = "user"
	GroupSubject SubjectKind = "group"
	tokenSubject SubjectKind = "token"
)

// Right is a grant with its subject.
type Right struct {
	Kind    SubjectKind
	Subject string
	rights.Grant
	By string // who granted it
}

func scopeText(s rights.Scope) string {
	if s == (rights.Scope{}) {
		return ""
	}
	return s.String()
}

// grantsOf reads grants from a JSON array of pairs of right and scope.
func grantsOf(text string) ([]rights.Grant, error) {
	var pairs [][2]string
	if err := json.Unmarshal([]byte(text), &pairs); err != nil {
		return nil, fmt.Errorf("reading rights: %w", err)
	}
	var out []rights.Grant
	for _, p := range pairs {
		in, err := rights.ParseScope(p[1])
		if err != nil {
			return nil, fmt.Errorf("reading rights: %w", err)
		}
		out = append(out, rights.Grant{Right: p[0], In: in})
	}
	return out, nil
}

// setGrants replaces the grants of a subject, and reports whether they were other ones.
func (tx Tx) setGrants(ctx context.Context, kind SubjectKind, subject string, grants []rights.Grant, by string) (bool,
	error) {
	text, err := one(ctx, tx, takeText, `SELECT json_group_array(json_array(granted, scope)) FROM rights WHERE kind = ? AND subject = ?`, kind, subject)
	if err != nil {
		return false, err
	}
	before, err := grantsOf(text)
	if err != nil {
		return false, err
	}
	changed := false
	for _, g := range grants {
		if slices.Contains(before, g) {
			continue
		}
		changed = true
		if _, err := tx.ExecContext(ctx, `INSERT INTO rights (kind, subject, granted, scope, person, made_at) VALUES (?,?,?,?,?,?)
			ON CONFLICT DO NOTHING`, kind, subject, g.Right, scopeText(g.In), by, tx.s.stamp()); err != nil {
			return false, err
		}
	}
	for _, g := range before {
		if slices.Contains(grants, g) {
			continue
		}
		changed = true
		if _, err := tx.ExecContext(ctx, `DELETE FROM rights WHERE kind = ? AND subject = ? AND granted = ? AND scope = ?`,
			kind, subject, g.Right, scopeText(g.In)); err != nil {
			return false, err
		}
	}
	return changed, nil
}

// Grant adds a right. Adding it again does no harm.
func (s *Store) Grant(ctx context.Context, r Right) error {
	return s.Within(ctx, func(tx Tx) error {
		_, err := one(ctx, tx, takeText, `INSERT INTO rights (kind, subject, granted, scope, person, made_at)
			VALUES (?,?,?,?,?,?) ON CONFLICT DO NOTHING RETURNING subject`, r.Kind, r.Subject, r.Right, scopeText(r.In), r.By, s.stamp())
		if errors.Is(err, ErrNotFound) {
			return nil // they have it
		}
		if err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: r.By, What: "right granted",
			Text: fmt.Sprintf("%s %s: %s in %s", r.Kind, r.Subject, r.Right, r.In)})
	})
}

// Revoke removes a right; ErrNotFound if the subject does not have it.
func (s *Store) Revoke(ctx context.Context, r Right) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := one(ctx, tx, takeText, `DELETE FROM rights WHERE kind = ? AND subject = ? AND granted = ? AND scope = ?
			RETURNING subject`, r.Kind, r.Subject, r.Right, scopeText(r.In)); err != nil {
			return Missing(err, "the right %s in %s of %s %s", r.Right, r.In, r.Kind, r.Subject)
		}
		return tx.Note(ctx, Entry{Person: r.By, What: "right revoked",
			Text: fmt.Sprintf("%s %s: %s in %s", r.Kind, r.Subject, r.Right, r.In)})
	})
}

// Rights lists the rights of all users and groups.
func (s *Store) Rights(ctx context.Context) ([]Right, error) {
	return list(ctx, s.read, func(r scanner) (Right, error) {
		var out Right
		var scope string
		if err := r.Scan(&out.Kind, &out.Subject, &out.Right, &scope, &out.By); err != nil {
			return out, err
		}
		var err error
		out.In, err = rights.ParseScope(scope)
		return out, err
	}, `SELECT kind, subject, granted, scope, person FROM rights WHERE kind <> 'token' ORDER BY kind DESC, subject, scope, granted`)
}
