package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/pressly/goose/v3"

	"rudmar/core/plan"
	"rudmar/core/resource"
)

// wordsVersion is the migration that rewrites stored documents to the present names. It
// is Go because the documents are JSON and a plan's digest covers its content.
const wordsVersion = 19

func wordsMigration() *goose.Migration {
	return goose.NewGoMigration(wordsVersion, &goose.GoFunc{RunTx: presentDocuments}, nil)
}

// presentDocuments rewrites every stored document.
func presentDocuments(ctx context.Context, tx *sql.Tx) error {
	if _, err := tx.ExecContext(ctx, `DROP TRIGGER plans_stay`); err != nil {
		return err
	}
	for _, table := range []struct {
		name, query, update string
		present             func(row []string) ([]string, error)
	}{
		{"records", `SELECT rowid, kind, attributes FROM records`,
			`UPDATE records SET kind = ?, attributes = ? WHERE rowid = ?`, presentRecord},
		{"plans", `SELECT id, digest, body FROM plans`, `UPDATE plans SET digest = ?, body = ? WHERE id = ?`, presentPlan},
		{"gate results", `SELECT rowid, body FROM judgements`, `UPDATE judgements SET body = ? WHERE rowid = ?`, document(presentGates)},
		{"traffic shifts", `SELECT rowid, body FROM shifts`, `UPDATE shifts SET body = ? WHERE rowid = ?`, document(presentShift)},
		{"case runs", `SELECT id, body FROM case_runs WHERE body <> ''`, `UPDATE case_runs SET body = ? WHERE id = ?`, document(presentCase)},
		{"observations", `SELECT rowid, body FROM looks`, `UPDATE looks SET body = ? WHERE rowid = ?`, document(presentObservation)},
		{"ignored drift", `SELECT rowid, address, attribute, live FROM drift_left`,
			`UPDATE drift_left SET address = ?, attribute = ?, live = ? WHERE rowid = ?`, presentIgnored},
		{"notification targets", `SELECT id, kinds FROM hooks`, `UPDATE hooks SET kinds = ? WHERE id = ?`, presentKinds},
		{"notifications", `SELECT id, kind, body FROM notices`, `UPDATE notices SET kind = ?, body = ? WHERE id = ?`, presentNotification},
		{"deliveries", `SELECT rowid, why FROM deliveries`, `UPDATE deliveries SET why = ? WHERE rowid = ?`,
			func(row []string) ([]string, error) { return []string{presentText(row[0])}, nil }},
	} {
		if err := rewrite(ctx, tx, table.query, table.update, table.present); err != nil {
			return fmt.Errorf("rewriting %s: %w", table.name, err)
		}
	}
	_, err := tx.ExecContext(ctx,
		`CREATE TRIGGER plans_stay BEFORE UPDATE ON plans BEGIN SELECT raise(ABORT, 'a plan is never changed'); END`)
	return err
}

// rewrite replaces the columns of each row, of which the first is its key.
func rewrite(ctx context.Context, tx *sql.Tx, query, update string, present func(row []string) ([]string,
	error)) error {
	rows, err := tx.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	type change struct {
		key int64
		now []string
	}
	var changes []change
	for rows.Next() {
		var key int64
		row := make([]string, len(names)-1)
		into := []any{&key}
		for i := range row {
			into = append(into, &row[i])
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		now, err := present(row)
		if err != nil {
			return fmt.Errorf("row %d: %w", key, err)
		}
		changes = append(changes, change{key, now})
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, c := range changes {
		values := make([]any, 0, len(c.now)+1)
		for _, v := range c.now {
			values = append(values, v)
		}
		if _, err := tx.ExecContext(ctx, update, append(values, c.key)...); err != nil {
			return err
		}
	}
	return nil
}

// object is a JSON object as it is stored.
type object = map[string]any

// document returns the rewriting of a row that is one JSON object.
func document(present func(o object)) func(row []string) ([]string, error) {
	return func(row []string) ([]string, error) {
		var o object
		if err := json.Unmarshal([]byte(row[0]), &o); err != nil {
			return nil, err
		}
		present(o)
		return []string{toJSON(o)}, nil
	}
}

// rename renames members: former name, present name, and so on.
func rename(o object, pairs ...string) {
	for i := 0; i < len(pairs); i += 2 {
		if v, ok := o[pairs[i]]; ok {
			delete(o, pairs[i])
			o[pairs[i+1]] = v
		}
	}
}

func member(o object, name string) object { v, _ := o[name].(object); return v }

// each calls do for each object of a list.
func each(o object, name string, do func(o object)) {
	list, _ := o[name].([]any)
	for _, item := range list {
		if one, ok := item.(object); ok {
			do(one)
		}
	}
}

func presentRecord(row []string) ([]string, error) {
	var attributes object
	if err := json.Unmarshal([]byte(row[1]), &attributes); err != nil {
		return nil, err
	}
	return []string{row[0], toJSON(resource.PresentAttributes(row[0], attributes))}, nil
}

func presentPlan(row []string) ([]string, error) {
	var o object
	if err := json.Unmarshal([]byte(row[1]), &o); err != nil {
		return nil, err
	}
	o["format"] = plan.Format
	rename(o, "waves", "phases", "consequences", "impact", "problems", "blockers", "takeAway", "deletions")
	each(o, "steps", func(s object) {
		rename(s, "wave", "phase", "undoesDrift", "revertsDrift", "was", "renamedFrom")
		kind, _ := s["kind"].(string)
		each(s, "attributes", func(a object) { presentAttribute(a, kind) })
		if want := member(s, "want"); want != nil {
			s["want"] = resource.PresentAttributes(kind, want)
		}
	})
	impact := member(o, "impact")
	rename(impact, "gained", "newPermissions", "lost", "removedPermissions", "through", "indirectPermissions",
		"opened", "openedRoutes", "closed", "closedRoutes", "moved", "reroutedRequests", "gaps", "routeGaps",
		"cold", "coldStarts", "removed", "dataLoss")
	each(impact, "rules", func(r object) { rename(r, "loosens", "weaker") })
	each(impact, "reroutedRequests", func(m object) { rename(m, "was", "before", "now", "after") })
	each(impact, "indirectPermissions", func(t object) { rename(t, "may", "permissions") })
	if lost, ok := impact["dataLoss"].([]any); ok {
		for i, text := range lost {
			lost[i] = lostAddress(fmt.Sprint(text))
		}
	}
	if outlook := member(o, "outlook"); outlook != nil {
		rename(outlook, "over", "period", "tight", "limits", "cold", "coldStarts", "losses", "dataLoss", "calls", "requests")
		each(outlook, "limits", func(t object) { rename(t, "what", "kind", "seen", "observed", "calls", "invocations") })
		each(outlook, "dataLoss", func(l object) { rename(l, "what", "kind") })
		each(outlook, "costs", func(c object) { rename(c, "how", "arithmetic") })
		each(outlook, "requests", func(r object) { rename(r, "calls", "invocations") })
	}
	var p plan.Plan
	if err := json.Unmarshal([]byte(toJSON(o)), &p); err != nil {
		return nil, err
	}
	p.Seal()
	return []string{p.Digest, toJSON(p)}, nil
}

func presentAttribute(a object, kind string) {
	rename(a, "live", "actual")
	if name, ok := a["name"].(string); ok {
		a["name"] = resource.PresentAttribute(kind, name)
	}
	for _, name := range []string{"before", "after", "actual", "recorded"} {
		if v, ok := a[name]; ok {
			a[name] = resource.PresentValue(kind, v)
		}
	}
}

// lostAddress returns the address of lost data that was stored as a sentence.
func lostAddress(sentence string) string {
	if fn, ok := strings.CutPrefix(sentence, "all log lines of "); ok {
		return resource.Logs + "/" + fn
	}
	return resource.Revision + "/" + strings.TrimPrefix(sentence, "all kept revisions of ")
}

// presentGates keeps the results, with the time of each, and drops the impact: it is
// computed again, and approvals cover it in another form.
func presentGates(o object) {
	delete(o, "meaning")
	rename(o, "stops", "blockers")
	each(o, "gates", func(g object) {
		rename(g, "why", "reason")
		g["state"] = map[any]string{"holds": "passed", "waits": "waiting", "fails": "not-met"}[g["state"]]
		if text, ok := g["reason"].(string); ok {
			if g["state"] == "passed" && strings.HasPrefix(text, "passed over by ") {
				g["state"] = "overridden"
			}
			g["reason"] = presentText(text)
		}
	})
}

func presentShift(o object) {
	rename(o, "why", "reason", "held", "pausedBy", "back", "rollbackReason")
	side := func(s object) { rename(s, "calls", "invocations") }
	for _, name := range []string{"history", "earlier"} {
		for _, of := range member(o, name) {
			if sum, ok := of.(object); ok {
				side(sum)
			}
		}
	}
	each(o, "points", func(p object) { side(member(p, "new")); side(member(p, "old")) })
	each(o, "taken", func(t object) { rename(t, "why", "reason") })
	outcome := func(o object) {
		if now, ok := map[any]string{"on": "advance", "back": "roll-back"}[o["outcome"]]; ok {
			o["outcome"] = now
		}
	}
	verdict := member(o, "verdict")
	if verdict == nil {
		return
	}
	rename(verdict, "why", "reason")
	outcome(verdict)
	each(verdict, "findings", func(f object) {
		rename(f, "words", "explanation")
		outcome(f)
		side(member(f, "new"))
		side(member(f, "old"))
	})
}

func presentCase(o object) {
	each(o, "outcomes", func(c object) { rename(c, "found", "received", "holds", "passed") })
	inv := member(o, "invocation")
	rename(inv, "answer", "response", "coldMs", "coldStartMs", "runMs", "durationMs", "logsCut", "logsTruncated")
	if inv["outcome"] == "answered" {
		inv["outcome"] = "succeeded"
	}
}

func presentObservation(o object) {
	rename(o, "parked", "deadLetters")
	for _, of := range member(o, "functions") {
		if f, ok := of.(object); ok {
			rename(f, "calls", "invocations")
		}
	}
	each(o, "drift", func(d object) {
		kind, _ := d["kind"].(string)
		presentLeft(d, kind)
		each(d, "attributes", func(a object) {
			presentAttribute(a, kind)
			presentLeft(a, kind)
		})
	})
}

func presentLeft(o object, kind string) {
	rename(o, "left", "ignored")
	if left := member(o, "ignored"); left != nil {
		rename(left, "live", "actual")
		if name, ok := left["attribute"].(string); ok {
			left["attribute"] = resource.PresentAttribute(kind, name)
		}
	}
}

func presentIgnored(row []string) ([]string, error) {
	kind, _ := resource.Split(row[0])
	var v any
	if err := json.Unmarshal([]byte(row[2]), &v); err != nil {
		// no value is stored for a resource
		return []string{row[0], resource.PresentAttribute(kind, row[1]), row[2]}, nil //nolint:nilerr
	}
	return []string{row[0], resource.PresentAttribute(kind, row[1]), toJSON(resource.PresentValue(kind, v))}, nil
}

// presentKind returns the present name of a type of notifications.
func presentKind(kind string) string {
	switch kind {
	case "delivery.proving":
		return "delivery.testing"
	case "delivery.stopped":
		return "delivery.failed"
	case "delivery.refused":
		return "delivery.rejected"
	case "delivery.went back":
		return "delivery.rolled-back"
	case "delivery.overtaken":
		return "delivery.superseded"
	case "drift.found":
		return NoticeDrift
	}
	return kind
}

func presentKinds(row []string) ([]string, error) {
	kinds := strings.Split(row[0], ",")
	for i, kind := range kinds {
		kinds[i] = presentKind(kind)
	}
	return []string{strings.Join(kinds, ",")}, nil
}

func presentNotification(row []string) ([]string, error) {
	kind := presentKind(row[0])
	var event object
	if err := json.Unmarshal([]byte(row[1]), &event); err != nil {
		return nil, err
	}
	event["type"] = "rudmar." + kind
	if data := member(event, "data"); data != nil {
		if text, ok := data["text"].(string); ok {
			data["text"] = presentText(text)
		}
		rename(data, "why", "reason", "consequences", "impact")
		if state, ok := data["state"].(string); ok && strings.HasPrefix(kind, noticeDelivery) {
			data["state"] = strings.TrimPrefix(presentKind(noticeDelivery+state), noticeDelivery)
		}
	}
	return []string{kind, toJSON(event)}, nil
}
