package local

import (
	"context"

	"rudmar/core/resource"
	"rudmar/platform/api"
	"rudmar/sqlstmt"
)

// rename moves all data of a function to another name, in the transaction
// that puts its identity: callers by a route notice nothing.
func (p *Platform) rename(ctx context.Context, tx sqlstmt.Tx, sc scope, kind, was, now string) error {
	if kind != resource.Identity {
		return refuse(422, "only an identity can be renamed; %s/%s is not one", kind, now)
	}
	_, old, err := p.store.resource(ctx, tx, sc, resource.Identity+"/"+was)
	if err != nil {
		return err
	}
	_, taken, err := p.store.resource(ctx, tx, sc, resource.Identity+"/"+now)
	switch {
	case err != nil:
		return err
	case !old && taken:
		return nil // done before
	case !old:
		return refuse(409, "no function %s to rename to %s", was, now)
	case taken:
		return refuse(409, "function %s already exists, so %s cannot be renamed", now, was)
	}
	in := []any{now, sc.region, sc.service, sc.stage, was}
	const there = ` WHERE region = ?2 AND service = ?3 AND stage = ?4 AND `
	for _, statement := range []string{
		`UPDATE resources SET address = kind || '/' || ?1 || substr(address, length(kind) + 2 + length(?5))` + there +
			`(address = kind || '/' || ?5 OR address LIKE kind || '/' || ?5 || '/%')`,
		`UPDATE fires SET address = 'schedule/' || ?1 || substr(address, 10 + length(?5))` + there +
			`address LIKE 'schedule/' || ?5 || '/%'`,
		`UPDATE messages SET subscription = 'subscription/' || ?1 || substr(subscription, 14 + length(?5))` + there +
			`subscription LIKE 'subscription/' || ?5 || '/%'`,
		`UPDATE OR REPLACE revisions SET function = ?1` + there + `function = ?5`,
		`UPDATE OR REPLACE log_lines SET function = ?1` + there + `function = ?5`,
		`UPDATE OR REPLACE minutes SET function = ?1` + there + `function = ?5`,
		`UPDATE OR REPLACE uses SET function = ?1` + there + `function = ?5`,
	} {
		if _, err := tx.ExecContext(ctx, statement, in...); err != nil {
			return err
		}
	}
	return nil
}

// called moves a function's collected data, and that of invocations in progress, to its new name.
func (o *observations) called(was, now member) {
	o.mu.Lock()
	defer o.mu.Unlock()
	delete(o.renamed, now) // an independent function from here on
	if was.function == "" {
		return
	}
	for old, name := range o.renamed {
		if old.scope == was.scope && name == was.function {
			o.renamed[old] = now.function
		}
	}
	o.renamed[was] = now.function
	for i := range o.lines {
		if l := &o.lines[i]; l.scope == was.scope {
			l.Function = o.nameOf(member{l.scope, l.Function}).function
		}
	}
	minutes := make(map[minuteKey]*api.MinuteSum, len(o.minutes))
	for key, sum := range o.minutes {
		key.member = o.nameOf(key.member)
		minutes[key] = sum
	}
	o.minutes = minutes
	uses := make(map[useKey]*useSum, len(o.uses))
	for key, sum := range o.uses {
		key.member = o.nameOf(key.member)
		uses[key] = sum
	}
	o.uses = uses
}

// nameOf returns a function by its newest name.
func (o *observations) nameOf(at member) member {
	if name, ok := o.renamed[at]; ok {
		at.function = name
	}
	return at
}
