package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"rudmar/core/pack"
)

// Heads returns the commits that were seen last, by branch.
func (s *Store) Heads(ctx context.Context, repository string) (map[string]string, error) {
	type head struct{ branch, hash string }
	rows, err := list(ctx, s.read, func(r scanner) (head, error) {
		var h head
		return h, r.Scan(&h.branch, &h.hash)
	}, `SELECT branch, hash FROM heads WHERE repository = ?`, repository)
	out := map[string]string{}
	for _, h := range rows {
		out[h.branch] = h.hash
	}
	return out, err
}

// The states of a build.
const (
	BuildQueued    = "queued"
	BuildSucceeded = "succeeded"
	BuildFailed    = "failed"
	BuildCancelled = "cancelled"
)

// Build is the making of a version from a commit.
type Build struct {
	ID                            int64
	Service, Hash, Branch, Person string
	State                         string // one of the constants below
	Reason, Log                   string
	Version                       int
	QueuedAt, EndedAt             time.Time
}

// Head is a moved branch, with its consequences.
type Head struct {
	Repository, Branch string
	Before, Hash       string // Before is "" if the branch was new.
	Person             string // who moved it
	Services           []string
	Builds             []Build
	Plans              []BranchPlan // services of which no stage deploys from the branch
}

// RecordHead stores a branch's new head, writes it to the journal of its services and queues builds, in one
// transaction. ErrMoved if the former head is not current: another process recorded the move.
func (s *Store) RecordHead(ctx context.Context, h Head) error {
	return s.Within(ctx, func(tx Tx) error {
		var known string
		err := tx.QueryRowContext(ctx, `SELECT hash FROM heads WHERE repository = ? AND branch = ?`,
			h.Repository, h.Branch).Scan(&known)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if known != h.Before {
			return fmt.Errorf("%s of %s is now at %s: %w", h.Branch, h.Repository, short(known), ErrMoved)
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO heads (repository, branch, hash) VALUES (?,?,?) ON CONFLICT DO UPDATE SET hash = excluded.hash`,
			h.Repository, h.Branch, h.Hash); err != nil {
			return err
		}
		for _, service := range h.Services {
			err := errors.Join(
				tx.Note(ctx, Entry{Person: h.Person, Service: service, What: "pushed", Text: h.Branch + " to " + short(h.Hash)}),
				tx.Publish(ctx, service, TopicSource, map[string]any{"branch": h.Branch, "hash": h.Hash}))
			if err != nil {
				return err
			}
		}
		for _, b := range h.Plans {
			if err := tx.addBranchPlan(ctx, b); err != nil {
				return err
			}
		}
		builds := h.Builds
		for _, b := range builds {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO builds (service, hash, branch, person, state, asked_at) VALUES (?,?,?,?,'queued',?)`,
				b.Service, b.Hash, b.Branch, b.Person, s.stamp()); err != nil {
				return err
			}
		}
		return nil
	})
}

const buildColumns = `id, service, hash, branch, person, state, why, log, version, asked_at, ended_at`

func takeBuild(r scanner) (Build, error) {
	var b Build
	var asked, ended int64
	err := r.Scan(&b.ID, &b.Service, &b.Hash, &b.Branch, &b.Person, &b.State, &b.Reason, &b.Log, &b.Version,
		&asked, &ended)
	b.QueuedAt, b.EndedAt = millis(asked), millis(ended)
	return b, err
}

// QueuedBuilds returns the builds that wait, oldest first.
func (s *Store) QueuedBuilds(ctx context.Context) ([]Build, error) {
	return list(ctx, s.read, takeBuild, `SELECT `+buildColumns+` FROM builds WHERE state = 'queued' ORDER BY id`)
}

// Builds returns a service's newest builds, newest first.
func (s *Store) Builds(ctx context.Context, service string, limit int) ([]Build, error) {
	return list(ctx, s.read, takeBuild, `SELECT `+buildColumns+` FROM builds WHERE service = ? ORDER BY id DESC LIMIT ?`,
		service, limit)
}

// Build returns a build.
func (s *Store) Build(ctx context.Context, id int64) (Build, error) {
	return one(ctx, s.read, takeBuild, `SELECT `+buildColumns+` FROM builds WHERE id = ?`, id)
}

// LatestBuild returns the newest build of a service.
func (s *Store) LatestBuild(ctx context.Context, service string) (Build, error) {
	return one(ctx, s.read, takeBuild, `SELECT `+buildColumns+` FROM builds WHERE service = ? ORDER BY id DESC LIMIT 1`,
		service)
}

// BuildOf returns the build of a version.
func (s *Store) BuildOf(ctx context.Context, service string, version int) (Build, error) {
	return one(ctx, s.read, takeBuild,
		`SELECT `+buildColumns+` FROM builds WHERE service = ? AND version = ? ORDER BY id LIMIT 1`, service, version)
}

// BuildFrom returns a service's newest build of a commit on a branch.
func (s *Store) BuildFrom(ctx context.Context, service, branch, hash string) (Build, error) {
	return one(ctx, s.read, takeBuild,
		`SELECT `+buildColumns+` FROM builds WHERE service = ? AND hash = ? AND branch = ? ORDER BY id DESC LIMIT 1`,
		service, hash, branch)
}

// EndBuild records the end of a queued build; ErrMoved if it has ended already.
func (s *Store) EndBuild(ctx context.Context, b Build) error {
	return s.Within(ctx, func(tx Tx) error { return tx.endBuild(ctx, b) })
}

// PauseBuild records why a queued build could not be executed; it stays queued.
func (s *Store) PauseBuild(ctx context.Context, b Build, reason string) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE builds SET why = ? WHERE id = ? AND state = ? AND why <> ?`, reason, b.ID,
			BuildQueued, reason)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return tx.Publish(ctx, b.Service, TopicBuild, map[string]any{"hash": b.Hash, "state": BuildQueued, "version": 0})
	})
}

// ErrNotFailed reports that a build neither failed nor was cancelled.
var ErrNotFailed = errors.New("only a failed or cancelled build can be run again")

// RequeueBuild queues a failed or cancelled build again, and writes who did it to the journal.
func (s *Store) RequeueBuild(ctx context.Context, id int64, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		b, err := one(ctx, tx, takeBuild, `SELECT `+buildColumns+` FROM builds WHERE id = ?`, id)
		if err != nil {
			return Missing(err, "build %d", id)
		}
		if b.State != BuildFailed && b.State != BuildCancelled {
			return fmt.Errorf("build %d is %s: %w", id, b.State, ErrNotFailed)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE builds SET state = ?, why = '', log = '', ended_at = 0, asked_at = ? WHERE id = ?`,
			BuildQueued, tx.s.stamp(), id); err != nil {
			return err
		}
		if err := tx.Note(ctx, Entry{Person: person, Service: b.Service, What: "build queued again", Text: short(b.Hash)}); err != nil {
			return err
		}
		return tx.Publish(ctx, b.Service, TopicBuild, map[string]any{"hash": b.Hash, "state": BuildQueued, "version": 0})
	})
}

func (tx Tx) endBuild(ctx context.Context, b Build) error {
	result, err := tx.ExecContext(ctx,
		`UPDATE builds SET state = ?, why = ?, log = ?, version = ?, ended_at = ? WHERE id = ? AND state = ?`,
		b.State, b.Reason, b.Log, b.Version, tx.s.stamp(), b.ID, BuildQueued)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("build %d has already ended: %w", b.ID, ErrMoved))
	}
	if b.State == BuildFailed {
		if err := tx.Note(ctx,
			Entry{Person: b.Person, Service: b.Service, What: "build failed", Text: short(b.Hash) + ": " + b.Reason}); err != nil {
			return err
		}
	}
	told := map[string]any{"commit": b.Hash, "branch": b.Branch, "by": b.Person}
	switch b.State {
	case BuildFailed:
		told["reason"] = b.Reason
		err = tx.Notify(ctx, NoticeBuildFailed, b.Service, "", "commit "+short(b.Hash)+" failed to build: "+b.Reason, told)
	case BuildSucceeded:
		told["version"] = b.Version
		err = tx.Notify(ctx, NoticeVersion, b.Service, "",
			fmt.Sprintf("commit %s is version %d", short(b.Hash), b.Version), told)
	}
	if err != nil {
		return err
	}
	return tx.Publish(ctx, b.Service, TopicBuild, map[string]any{"hash": b.Hash, "state": b.State, "version": b.Version})
}

// Artifact is one archive.
type Artifact struct {
	Digest, FileSHA256 string
	Bytes              int64
	Listing            pack.Listing
}

// Artifact returns an archive by digest.
func (s *Store) Artifact(ctx context.Context, digest string) (Artifact, error) {
	return one(ctx, s.read, func(r scanner) (Artifact, error) {
		var a Artifact
		var listing string
		err := r.Scan(&a.Digest, &a.FileSHA256, &a.Bytes, &listing)
		if err == nil {
			err = json.Unmarshal([]byte(listing), &a.Listing)
		}
		return a, err
	}, `SELECT digest, file_sha256, bytes, listing FROM artifacts WHERE digest = ?`, digest)
}

// Version is the version of a commit of a service.
type Version struct {
	Service              string
	Number               int
	Hash, Branch         string
	Author, Message      string // as in the commit, which anybody can write
	Person               string // who pushed it, as signed in
	CommittedAt, BuiltAt time.Time
	Content              string            // digest of manifests and artifacts
	Manifests            map[string]string // path → text
}

// VersionFunction is a function of a version.
type VersionFunction struct {
	Function string
	Digest   string
	Sources  string // digest of the archive's inputs
	Changed  bool   // compared with the previous version
}

// Provenance is the signed origin and the content of a version.
type Provenance struct {
	Envelope string // DSSE
	Contents string // CycloneDX
}

// Provenance returns that of a version.
func (s *Store) Provenance(ctx context.Context, service string, version int) (Provenance, error) {
	return one(ctx, s.read, func(r scanner) (Provenance, error) {
		var p Provenance
		return p, r.Scan(&p.Envelope, &p.Contents)
	}, `SELECT envelope, contents FROM provenance WHERE service = ? AND version = ?`, service, version)
}

// Built is the result of a build: a version, and its deliveries.
type Built struct {
	Build     Build // the build ends in the same transaction
	Version   Version
	Functions []VersionFunction
	Artifacts []Artifact
	// Attest returns the provenance statement, once the version's number is known.
	Attest func(number int) (Provenance, error)
	// Stages are the stages of its deliveries, Removes the stages that it removes.
	Stages, Removes []string
}

// FinishBuild stores a new version with its functions, archives and provenance, creates its deliveries, and
// ends its build, in one transaction. If a version of the same content exists, that one is delivered again and
// returned.
func (s *Store) FinishBuild(ctx context.Context, b Built) (number int, made bool, err error) {
	err = s.Within(ctx, func(tx Tx) error {
		err := tx.QueryRowContext(ctx, `SELECT number FROM versions WHERE service = ? AND content = ?`, b.Version.Service,
			b.Version.Content).Scan(&number)
		if made = errors.Is(err, sql.ErrNoRows); made {
			number, err = tx.addVersion(ctx, b)
		}
		if err != nil {
			return err
		}
		if err := tx.startDelivery(ctx, b.Version.Service, number, b.Stages, b.Removes); err != nil {
			return err
		}
		b.Build.State, b.Build.Version = BuildSucceeded, number
		b.Build.Log += "version " + itoa(number) + "\n"
		if !made {
			b.Build.Log = strings.TrimSuffix(b.Build.Log, "\n") + ", the same as before: no new number\n"
		}
		return tx.endBuild(ctx, b.Build)
	})
	return number, made, err
}

func (tx Tx) addVersion(ctx context.Context, b Built) (number int, err error) {
	v := b.Version
	if err := tx.QueryRowContext(ctx, `SELECT coalesce(max(number), 0) + 1 FROM versions WHERE service = ?`,
		v.Service).Scan(&number); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx,
		`INSERT INTO versions (service, number, hash, branch, author, person, message, committed_at, built_at, content, manifests) VALUES (?,?,?,?,?,?,?,?,?,?,?)`,
		v.Service, number, v.Hash, v.Branch, v.Author, v.Person, v.Message, v.CommittedAt.UnixMilli(), tx.s.stamp(),
		v.Content, toJSON(v.Manifests)); err != nil {
		return 0, err
	}
	for _, a := range b.Artifacts {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO artifacts (digest, file_sha256, bytes, listing, made_at) VALUES (?,?,?,?,?) ON CONFLICT DO NOTHING`,
			a.Digest, a.FileSHA256, a.Bytes, toJSON(a.Listing), tx.s.stamp()); err != nil {
			return 0, err
		}
	}
	for _, f := range b.Functions {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO version_functions (service, version, function, digest, sources, changed) VALUES (?,?,?,?,?,?)`,
			v.Service, number, f.Function, f.Digest, f.Sources, f.Changed); err != nil {
			return 0, err
		}
	}
	p, err := b.Attest(number)
	if err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO provenance (service, version, envelope, contents) VALUES (?,?,?,?)`,
		v.Service, number, p.Envelope, p.Contents); err != nil {
		return 0, err
	}
	return number, tx.Note(ctx,
		Entry{Person: v.Person, Service: v.Service, What: "built",
			Text: "version " + itoa(number) + " from " + short(v.Hash)})
}

const versionColumns = `service, number, hash, branch, author, person, message, committed_at, built_at, content, manifests`

func scanVersion(r scanner) (Version, error) {
	var v Version
	var committed, built int64
	var manifests string
	err := r.Scan(&v.Service, &v.Number, &v.Hash, &v.Branch, &v.Author, &v.Person, &v.Message, &committed,
		&built, &v.Content, &manifests)
	v.CommittedAt, v.BuiltAt = millis(committed), millis(built)
	if err == nil {
		err = json.Unmarshal([]byte(manifests), &v.Manifests)
	}
	return v, err
}

// Version returns a version by number.
func (s *Store) Version(ctx context.Context, service string, number int) (Version, error) {
	return one(ctx, s.read, scanVersion, `SELECT `+versionColumns+` FROM versions WHERE service = ? AND number = ?`,
		service, number)
}

// NewestVersion returns the number of a service's newest version, 0 for none.
func (s *Store) NewestVersion(ctx context.Context, service string) (int, error) {
	return one(ctx, s.read, func(r scanner) (int, error) {
		var n int
		return n, r.Scan(&n)
	}, `SELECT coalesce(max(number), 0) FROM versions WHERE service = ?`, service)
}

// Listed is a version in a list: without its manifests.
type Listed struct {
	Version
	Functions int
	Changed   []string // its changed functions
}

// ListVersions lists a service's versions, newest first, without their manifests.
func (s *Store) ListVersions(ctx context.Context, service string, p Part) ([]Listed, error) {
	return s.listed(ctx, service, `v.service = ?1 AND (?2 = 0 OR number < ?2) AND (?3 = ''
			OR instr(lower(message || ' ' || author || ' ' || person || ' ' || branch || ' ' || hash || ' ' || number),
				lower(?3)))
			AND (?4 = '' OR EXISTS (SELECT 1 FROM deliveries d
				WHERE d.service = v.service AND d.version = v.number AND d.state = ?4))`,
		p.Limit, service, p.Before, p.Text, p.State)
}

// Part narrows a list that grows for years.
type Part struct {
	Before int64  // only older versions; 0 for the newest
	Text   string // only versions that contain this text, in any case
	State  string // only versions in this state in a stage
	Limit  int
}

// ListVersion returns a version in its list form.
func (s *Store) ListVersion(ctx context.Context, service string, number int) (Listed, error) {
	all, err := s.listed(ctx, service, `v.service = ? AND v.number = ?`, 1, service, number)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Listed{}, err
	}
	return all[0], nil
}

func (s *Store) listed(ctx context.Context, service, where string, limit int, args ...any) ([]Listed, error) {
	return list(ctx, s.read, func(r scanner) (Listed, error) {
		v := Listed{Version: Version{Service: service}}
		var committed, built int64
		var changed string
		err := r.Scan(&v.Number, &v.Hash, &v.Branch, &v.Author, &v.Person, &v.Message, &committed, &built,
			&v.Content, &v.Functions, &changed)
		v.CommittedAt, v.BuiltAt = millis(committed), millis(built)
		if changed != "" {
			v.Changed = strings.Split(changed, ",")
		}
		return v, err
	}, `SELECT number, hash, branch, author, person, message, committed_at, built_at, content,
			(SELECT count(*) FROM version_functions f WHERE f.service = v.service AND f.version = v.number),
			(SELECT coalesce(group_concat(function), '') FROM version_functions f
				WHERE f.service = v.service AND f.version = v.number AND f.changed = 1 ORDER BY function)
		FROM versions v WHERE `+where+` ORDER BY number DESC LIMIT `+itoa(limit), args...)
}

// VersionFunctions lists a version's functions.
func (s *Store) VersionFunctions(ctx context.Context, service string, version int) ([]VersionFunction, error) {
	return list(ctx, s.read, func(r scanner) (VersionFunction, error) {
		var f VersionFunction
		return f, r.Scan(&f.Function, &f.Digest, &f.Sources, &f.Changed)
	}, `SELECT function, digest, sources, changed FROM version_functions WHERE service = ? AND version = ? ORDER BY function`, service, version)
}

// LastChanged returns, per function, the newest version up to one in which it changed.
func (s *Store) LastChanged(ctx context.Context, service string, upTo int) (map[string]int, error) {
	type changed struct {
		function string
		version  int
	}
	rows, err := list(ctx, s.read, func(r scanner) (changed, error) {
		var c changed
		return c, r.Scan(&c.function, &c.version)
	}, `SELECT function, max(version) FROM version_functions WHERE service = ? AND version <= ? AND changed = 1 GROUP BY function`, service, upTo)
	out := map[string]int{}
	for _, c := range rows {
		out[c.function] = c.version
	}
	return out, err
}

// BuiltFrom returns the digest of an archive that was built from the same sources before.
func (s *Store) BuiltFrom(ctx context.Context, sources string) (string, error) {
	digest, err := one(ctx, s.read, takeText, `SELECT digest FROM version_functions WHERE sources = ? LIMIT 1`, sources)
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	return digest, err
}

// ChangedAfter counts, per function, the versions after one in which it changed.
func (s *Store) ChangedAfter(ctx context.Context, service string, version int) (map[string]int, error) {
	type changed struct {
		function string
		count    int
	}
	rows, err := list(ctx, s.read, func(r scanner) (changed, error) {
		var c changed
		return c, r.Scan(&c.function, &c.count)
	}, `SELECT function, count(*) FROM version_functions WHERE service = ? AND version > ? AND changed = 1 GROUP BY function`, service, version)
	out := map[string]int{}
	for _, c := range rows {
		out[c.function] = c.count
	}
	return out, err
}
