package store

import (
	"context"
	"slices"
	"strings"
	"time"

	"rudmar/core/rights"
)

// Person is a user.
type Person struct {
	Username  string
	Granted   []rights.Grant // their own
	Inherited []rights.Grant // those of their groups, and of all services of repositories; never stored
	Groups    []string
	Emails    []string // by which their commits are known on remotes
	Password  string   // its hash
	Closed    bool     // the account is closed
	Token     *Token   // the token that acts in their name, nil for themselves; never stored
}

// Rights returns the inputs of decisions about a user.
func (p Person) Rights() rights.Person {
	out := rights.Person{Username: p.Username, Grants: slices.Concat(p.Granted, p.Inherited)}
	if p.Token != nil {
		out.Token = p.Token.Rights()
	}
	return out
}

// personColumns reads a person with all their grants: their own, and inherited ones. A right in a repository is one in
// each of its services, so decisions about a service need not know its repository.
const personColumns = `handle, groups, emails, password, closed_at > 0,
	(SELECT json_group_array(json_array(granted, scope)) FROM rights WHERE kind = 'user' AND subject = handle),
	(SELECT json_group_array(json_array(granted, scope)) FROM (
		SELECT granted, scope FROM rights WHERE kind = 'group' AND instr(' ' || groups || ' ', ' ' || subject || ' ')
		UNION SELECT granted, s.name FROM rights r JOIN services s ON r.scope = 'repository:' || s.repository
			WHERE kind = 'user' AND subject = handle OR kind = 'group' AND instr(' ' || groups || ' ', ' ' || subject || ' ')))`

func scanUser(r scanner) (Person, error) {
	var p Person
	var groups, emails, own, inherited string
	err := r.Scan(&p.Username, &groups, &emails, &p.Password, &p.Closed, &own, &inherited)
	if err != nil {
		return p, err
	}
	p.Groups, p.Emails = strings.Fields(groups), strings.Fields(emails)
	if p.Granted, err = grantsOf(own); err == nil {
		p.Inherited, err = grantsOf(inherited)
	}
	return p, err
}

// PutPerson adds or changes a user with their own rights: a change of password or rights, or closing the account, ends
// their sessions; closing it revokes their tokens. The journal names by.
func (s *Store) PutPerson(ctx context.Context, p Person, by, what string) error {
	return s.Within(ctx, func(tx Tx) error {
		closed := int64(0)
		if p.Closed {
			closed = s.stamp()
		}
		changed, err := tx.setGrants(ctx, UserSubject, p.Username, p.Granted, by)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE handle = ?1 AND (?4 OR EXISTS (
				SELECT 1 FROM people WHERE handle = ?1 AND (password <> ?2 OR (?3 > 0 AND closed_at = 0))))`,
			p.Username, p.Password, closed, changed); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE tokens SET ended_at = ? WHERE handle = ? AND ended_at = 0 AND ? > 0`,
			closed, p.Username, closed); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO people (handle, groups, emails, password, made_at, closed_at) VALUES (?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET groups = excluded.groups, emails = excluded.emails, password = excluded.password, closed_at = excluded.closed_at`,
			p.Username, strings.Join(p.Groups, " "), strings.Join(p.Emails, " "), p.Password, s.stamp(), closed); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: by, What: what, Text: p.Username})
	})
}

// Person returns a user by username.
func (s *Store) Person(ctx context.Context, username string) (Person, error) {
	return one(ctx, s.read, scanUser, `SELECT `+personColumns+` FROM people WHERE handle = ?`, username)
}

// People lists everybody.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	return list(ctx, s.read, scanUser, `SELECT `+personColumns+` FROM people ORDER BY handle`)
}

// Entry is one entry of the journal.
type Entry struct {
	ID                           int64
	At                           time.Time
	Person, Service, Stage, What string
	Text                         string
	Token                        string // the name of the token that acted for them; "" if they acted themselves
}

// Note writes a line of the journal.
func (s *Store) Note(ctx context.Context, e Entry) error {
	return s.Within(ctx, func(tx Tx) error { return tx.Note(ctx, e) })
}

// Note writes a line of the journal as part of a transaction.
func (tx Tx) Note(ctx context.Context, e Entry) error {
	_, err := tx.ExecContext(ctx,
		`INSERT INTO journal (at, person, service, stage, what, text, token) VALUES (?,?,?,?,?,?,?)`,
		tx.s.stamp(), e.Person, e.Service, e.Stage, e.What, e.Text, through(ctx))
	return err
}

// journalOf selects filtered entries; each service's are read in order from the index on service and id.
const journalOf = `SELECT id, at, person, service, stage, what, text, token FROM journal
	WHERE (?2 = 0 OR id < ?2) AND (?3 = '' OR instr(lower(text || ' ' || what), lower(?3)))
		AND (?4 = '' OR person = ?4) AND (?5 = '' OR stage = ?5) AND (?6 = '' OR what IN (SELECT value FROM json_each(?8)))`

// Journal returns the entries of a service, newest first, filtered by the person, stage and action of e, if set; with
// those of no service if all is true.
func (s *Store) Journal(ctx context.Context, service string, all bool, p Part, e Entry) ([]Entry, error) {
	actions := formerActions()
	return list(ctx, s.read, func(r scanner) (Entry, error) {
		var e Entry
		var at int64
		err := r.Scan(&e.ID, &at, &e.Person, &e.Service, &e.Stage, &e.What, &e.Text, &e.Token)
		e.At = millis(at)
		return e.present(actions), err
	}, `SELECT * FROM (`+journalOf+` AND service = ?1 ORDER BY id DESC LIMIT ?7)
		UNION ALL SELECT * FROM (`+journalOf+` AND service = '' AND ?9 ORDER BY id DESC LIMIT ?7) ORDER BY id DESC LIMIT ?7`,
		service, p.Before, p.Text, e.Person, e.Stage, e.What, p.Limit, actionNames(e.What), all)
}

// Sealed is a secret's value, encrypted.
type Sealed struct {
	Name   string
	Value  []byte
	Person string
	At     time.Time
}

// PutSecret stores an encrypted value, and writes who set it to the journal.
func (s *Store) PutSecret(ctx context.Context, service, stage string, v Sealed) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO secrets (service, stage, name, sealed, person, at) VALUES (?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET sealed = excluded.sealed, person = excluded.person, at = excluded.at`, service, stage,
			v.Name, v.Value, v.Person, s.stamp()); err != nil {
			return err
		}
		if err := tx.Note(ctx,
			Entry{Person: v.Person, Service: service, Stage: stage, What: "secret set", Text: v.Name}); err != nil {
			return err
		}
		return tx.Publish(ctx, service, TopicSecret, map[string]any{"stage": stage, "name": v.Name})
	})
}

// HasSecrets reports whether anything is encrypted with the installation's key.
func (s *Store) HasSecrets(ctx context.Context) (bool, error) {
	return one(ctx, s.read, scanBool, `SELECT EXISTS (SELECT 1 FROM secrets)`)
}

// HasVersions reports whether anything is signed with the installation's key.
func (s *Store) HasVersions(ctx context.Context) (bool, error) {
	return one(ctx, s.read, scanBool, `SELECT EXISTS (SELECT 1 FROM provenance)`)
}

func scanBool(r scanner) (bool, error) {
	var v bool
	return v, r.Scan(&v)
}

// ClearSecrets deletes all encrypted values: their key is lost.
func (s *Store) ClearSecrets(ctx context.Context) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM secrets`); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{What: "secrets lost", Text: "the key is missing: every secret must be set again"})
	})
}

// Secrets returns the encrypted values of a stage.
func (s *Store) Secrets(ctx context.Context, service, stage string) ([]Sealed, error) {
	return list(ctx, s.read, func(r scanner) (Sealed, error) {
		var v Sealed
		var at int64
		err := r.Scan(&v.Name, &v.Value, &v.Person, &at)
		v.At = millis(at)
		return v, err
	}, `SELECT name, sealed, person, at FROM secrets WHERE service = ? AND stage = ? ORDER BY name`, service, stage)
}

// NewestEvent returns the id of the newest event, 0 if there is none.
func (s *Store) NewestEvent(ctx context.Context) (int64, error) {
	return one(ctx, s.read, func(r scanner) (int64, error) {
		var id int64
		return id, r.Scan(&id)
	}, `SELECT coalesce(max(id), 0) FROM events`)
}
