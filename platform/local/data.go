package local

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/core/access"
	"rudmar/core/event"
	"rudmar/core/resource"
	"rudmar/sqlstmt"
)

// Limits of functions' data, in bytes.
const (
	maxRowBytes     = 256 << 10
	maxObjectBytes  = 6 << 20
	maxMessageBytes = 256 << 10
)

// data serves the data API of functions: tables, objects, queues and secrets. Each request is checked against
// the grants of the function's identity.
func (p *Platform) data(e *echo.Echo) {
	e.GET("/data/tables/:name", p.guarded("tables", "query", p.queryTable))
	e.GET("/data/tables/:name/:key", p.guarded("tables", "read", p.readRow))
	e.PUT("/data/tables/:name/:key", p.guarded("tables", "write", p.writeRow))
	e.DELETE("/data/tables/:name/:key", p.guarded("tables", "delete", p.deleteRow))
	e.GET("/data/objects/:name", p.guarded("objects", "list", p.listObjects))
	e.GET("/data/objects/:name/*", p.guarded("objects", "read", p.readObject))
	e.PUT("/data/objects/:name/*", p.guarded("objects", "write", p.writeObject))
	e.DELETE("/data/objects/:name/*", p.guarded("objects", "delete", p.deleteObject))
	e.POST("/data/queues/:name", p.guarded("queues", "send", p.sendMessage))
	e.GET("/data/secrets/:name", p.guarded("secrets", "read", p.readSecret))
}

type dataHandler func(c *echo.Context, at member, name, key string) error

func (p *Platform) guarded(kind, verb string, next dataHandler) echo.HandlerFunc {
	return func(c *echo.Context) error {
		token, _ := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		at, ok := p.pool.holder(token)
		if !ok {
			return refuse(http.StatusUnauthorized,
				"the token does not belong to a running function; send the one in RUDMAR_TOKEN as a bearer token")
		}
		name, key := c.Param("name"), c.Param("key")
		if rest := c.Param("*"); rest != "" {
			var err error
			if key, err = url.PathUnescape(rest); err != nil {
				return refuse(http.StatusBadRequest, "%q is not a key", rest)
			}
		}
		there, err := p.directory.of(c.Request().Context(), at.scope)
		if err != nil {
			return err
		}
		statements := there.grants[at.function]
		resource := kind + "/" + name
		allowed := access.Allows(statements, verb, resource) || key != "" && access.Allows(statements, verb, resource+"/"+key)
		p.observed.use(at, verb, resource, allowed)
		if !allowed {
			return refuse(http.StatusForbidden, "%s cannot %s %s; add permissions: {allow: [%s], resource: %s}", at.function,
				verb, resource, verb, resource)
		}
		return next(c, at, name, key)
	}
}

// body reads a request's body up to a limit.
func body(c *echo.Context, limit int, what string) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(c.Request().Body, int64(limit)+1))
	if err == nil && len(text) > limit {
		err = refuse(http.StatusRequestEntityTooLarge, "%s can have up to %d KiB", what, limit>>10)
	}
	return text, err
}

func (p *Platform) listObjects(c *echo.Context, at member, name, _ string) error {
	rows, err := p.store.db.QueryContext(c.Request().Context(), `SELECT key, type, length(content), changed_at FROM objects
		WHERE region = ? AND service = ? AND stage = ? AND name = ? AND substr(key, 1, length(?)) = ? ORDER BY key LIMIT 1000`,
		at.region, at.service, at.stage, name, c.QueryParam("prefix"), c.QueryParam("prefix"))
	if err != nil {
		return err
	}
	defer rows.Close()
	out := []map[string]any{}
	for rows.Next() {
		var key, kind string
		var size, changed int64
		if err := rows.Scan(&key, &kind, &size, &changed); err != nil {
			return err
		}
		out = append(out, map[string]any{"key": key, "type": kind, "size": size, "changed_at": changed})
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"objects": out})
}

func (p *Platform) readObject(c *echo.Context, at member, name, key string) error {
	var kind string
	var content []byte
	err := p.store.db.QueryRowContext(c.Request().Context(),
		`SELECT type, content FROM objects WHERE region = ? AND service = ? AND stage = ? AND name = ? AND key = ?`,
		at.region, at.service, at.stage, name, key).Scan(&kind, &content)
	if errors.Is(err, sql.ErrNoRows) {
		return refuse(http.StatusNotFound, "objects/%s has no object %q", name, key)
	}
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, kind, content)
}

// serveObject and serveMessage perform the operations of functions, for manual use.
func (p *Platform) serveObject(c *echo.Context) error {
	return p.writeObject(c, member{scope: scopeOf(c)}, c.Param("name"), c.Param("*"))
}

func (p *Platform) serveMessage(c *echo.Context) error {
	return p.sendMessage(c, member{scope: scopeOf(c)}, c.Param("name"), "")
}

func scopeOf(c *echo.Context) scope {
	return scope{c.Param("region"), c.Param("service"), c.Param("stage")}
}

func (p *Platform) writeObject(c *echo.Context, at member, name, key string) error {
	content, err := body(c, maxObjectBytes, "an object")
	if err != nil {
		return err
	}
	ctx, now := c.Request().Context(), p.options.Now()
	kind := c.Request().Header.Get("Content-Type")
	if kind == "" {
		kind = "application/octet-stream"
	}
	err = p.store.within(ctx, func(tx sqlstmt.Tx) error {
		what := event.Created
		var there int
		if err := tx.QueryRowContext(ctx,
			`SELECT count(*) FROM objects WHERE region = ? AND service = ? AND stage = ? AND name = ? AND key = ?`,
			at.region, at.service, at.stage, name, key).Scan(&there); err != nil {
			return err
		}
		if there > 0 {
			what = event.Changed
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO objects (region, service, stage, name, key, type, content, changed_at) VALUES (?,?,?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET type = excluded.type, content = excluded.content, changed_at = excluded.changed_at`,
			at.region, at.service, at.stage, name, key, kind, content, now.UnixMilli()); err != nil {
			return err
		}
		return p.objectEvent(ctx, tx, at.scope, what, event.Object{Store: name, Key: key, Type: kind, Size: len(content)})
	})
	if err != nil {
		return err
	}
	p.dispatch.nudge()
	return c.NoContent(http.StatusNoContent)
}

func (p *Platform) deleteObject(c *echo.Context, at member, name, key string) error {
	ctx := c.Request().Context()
	err := p.store.within(ctx, func(tx sqlstmt.Tx) error {
		done, err := tx.ExecContext(ctx,
			`DELETE FROM objects WHERE region = ? AND service = ? AND stage = ? AND name = ? AND key = ?`, at.region,
			at.service, at.stage, name, key)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return p.objectEvent(ctx, tx, at.scope, event.Deleted, event.Object{Store: name, Key: key})
	})
	if err != nil {
		return err
	}
	p.dispatch.nudge()
	return c.NoContent(http.StatusNoContent)
}

func (p *Platform) sendMessage(c *echo.Context, at member, name, _ string) error {
	text, err := body(c, maxMessageBytes, "a message")
	if err != nil {
		return err
	}
	if !json.Valid(text) {
		return refuse(http.StatusUnprocessableEntity, "a message must be JSON")
	}
	id, err := p.enqueue(c.Request().Context(), at.scope, name, string(text))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusAccepted, map[string]any{"id": id})
}

// enqueue adds a message to a queue. An accepted message is not lost.
func (p *Platform) enqueue(ctx context.Context, sc scope, queue, text string) (int64, error) {
	now := p.options.Now().UnixMilli()
	done, err := p.store.db.ExecContext(ctx,
		`INSERT INTO messages (region, service, stage, queue, subscription, body, sent_at, due_at) VALUES (?,?,?,?,'',?,?,?)`,
		sc.region, sc.service, sc.stage, queue, text, now, now)
	if err != nil {
		return 0, err
	}
	p.dispatch.nudge()
	return done.LastInsertId()
}

func (p *Platform) readSecret(c *echo.Context, at member, name, _ string) error {
	// The service's own secrets come with their read permission.
	ctx := c.Request().Context()
	given, err := p.store.secrets(ctx, at.scope, resource.Grant+"/"+at.function+"/secrets/"+name)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	value, ok := given["value"]
	if !ok {
		err := p.store.db.QueryRowContext(ctx,
			`SELECT value FROM kept_secrets WHERE region = ? AND service = ? AND stage = ? AND name = ?`,
			at.region, at.service, at.stage, name).Scan(&value)
		if errors.Is(err, sql.ErrNoRows) {
			return refuse(http.StatusNotFound, "no secret %q in %s", name, at.scope)
		}
		if err == nil {
			value, err = p.store.unsealed(at.scope, value)
		}
		if err != nil {
			return err
		}
	}
	return c.JSON(http.StatusOK, map[string]string{"value": value})
}

// keepSecret stores the value of a secret that functions can read.
func (p *Platform) keepSecret(c *echo.Context) error {
	text, err := body(c, maxRowBytes, "a secret")
	if err != nil {
		return err
	}
	var value string
	if err := json.Unmarshal(text, &value); err != nil {
		return refuse(http.StatusUnprocessableEntity, "a secret must be a string, as JSON")
	}
	sc := scopeOf(c)
	_, err = p.store.db.ExecContext(c.Request().Context(),
		`INSERT INTO kept_secrets (region, service, stage, name, value) VALUES (?,?,?,?,?)
		ON CONFLICT DO UPDATE SET value = excluded.value`, sc.region, sc.service, sc.stage, c.Param("name"),
		p.store.sealed(sc, value))
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// backOff is how long a message waits after so many failed attempts.
func backOff(attempts int) time.Duration {
	return min(time.Second<<min(attempts-1, 10), 5*time.Minute)
}
