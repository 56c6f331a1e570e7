package local

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"rudmar/core/access"
)

const maxRowBytes = 256 << 10

// data serves what functions reach with their token: tables. Each call is
// checked against the grants of the function's identity.
func (p *Platform) data(e *echo.Echo) {
	e.GET("/data/tables/:table", p.guarded("query", p.queryTable))
	e.GET("/data/tables/:table/:key", p.guarded("read", p.readRow))
	e.PUT("/data/tables/:table/:key", p.guarded("write", p.writeRow))
	e.DELETE("/data/tables/:table/:key", p.guarded("delete", p.deleteRow))
}

type dataHandler func(c *echo.Context, at place, table, key string) error

func (p *Platform) guarded(verb string, next dataHandler) echo.HandlerFunc {
	return func(c *echo.Context) error {
		token, _ := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		at, ok := p.pool.holder(token)
		if !ok {
			return refuse(http.StatusUnauthorized, "the token is not that of a running function; send the one in RUDMAR_TOKEN as a bearer token")
		}
		table, key := c.Param("table"), c.Param("key")
		statements, err := p.grants(c.Request().Context(), at)
		if err != nil {
			return err
		}
		resource := "tables/" + table
		allowed := access.Allows(statements, verb, resource) || key != "" && access.Allows(statements, verb, resource+"/"+key)
		p.observed.use(at, verb, resource, allowed)
		if !allowed {
			return refuse(http.StatusForbidden, "%s may not %s %s; give it permissions: {may: [%s], of: %s}", at.function, verb, resource, verb, resource)
		}
		return next(c, at, table, key)
	}
}

// grants gives what a function may do in its scope.
func (p *Platform) grants(ctx context.Context, at place) ([]access.Statement, error) {
	rows, err := p.store.resources(ctx, p.store.db, at.scope, "AND kind = 'grant' AND address LIKE ?", "grant/"+at.function+"/%")
	if err != nil {
		return nil, err
	}
	var out []access.Statement
	for _, r := range rows {
		s := access.Statement{Resource: fmt.Sprint(r.attributes["resource"])}
		verbs, _ := r.attributes["verbs"].([]any)
		for _, v := range verbs {
			s.Verbs = append(s.Verbs, fmt.Sprint(v))
		}
		out = append(out, s)
	}
	return out, nil
}

func (p *Platform) queryTable(c *echo.Context, at place, table, _ string) error {
	rows, err := p.store.db.QueryContext(c.Request().Context(), `SELECT key, value FROM tables
		WHERE region = ? AND service = ? AND stage = ? AND name = ? AND substr(key, 1, length(?)) = ? ORDER BY key LIMIT 1000`,
		at.region, at.service, at.stage, table, c.QueryParam("prefix"), c.QueryParam("prefix"))
	if err != nil {
		return err
	}
	defer rows.Close()
	out := []map[string]any{}
	for rows.Next() {
		var key, value string
		if err := rows.Scan(&key, &value); err != nil {
			return err
		}
		out = append(out, map[string]any{"key": key, "value": json.RawMessage(value)})
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"rows": out})
}

func (p *Platform) readRow(c *echo.Context, at place, table, key string) error {
	var value string
	err := p.store.db.QueryRowContext(c.Request().Context(), `SELECT value FROM tables WHERE region = ? AND service = ? AND stage = ? AND name = ? AND key = ?`,
		at.region, at.service, at.stage, table, key).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return refuse(http.StatusNotFound, "tables/%s has no row %q", table, key)
	}
	if err != nil {
		return err
	}
	return c.JSONBlob(http.StatusOK, []byte(value))
}

func (p *Platform) writeRow(c *echo.Context, at place, table, key string) error {
	body, err := io.ReadAll(io.LimitReader(c.Request().Body, maxRowBytes+1))
	switch {
	case err != nil:
		return err
	case len(body) > maxRowBytes:
		return refuse(http.StatusRequestEntityTooLarge, "a row may have %d KiB", maxRowBytes>>10)
	case !json.Valid(body):
		return refuse(http.StatusUnprocessableEntity, "a row is JSON; this body is not")
	}
	_, err = p.store.db.ExecContext(c.Request().Context(), `INSERT INTO tables (region, service, stage, name, key, value, changed_at) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT DO UPDATE SET value = excluded.value, changed_at = excluded.changed_at`,
		at.region, at.service, at.stage, table, key, string(body), p.options.Now().UnixMilli())
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (p *Platform) deleteRow(c *echo.Context, at place, table, key string) error {
	if _, err := p.store.db.ExecContext(c.Request().Context(), `DELETE FROM tables WHERE region = ? AND service = ? AND stage = ? AND name = ? AND key = ?`,
		at.region, at.service, at.stage, table, key); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func decodeMap(text string) (map[string]any, error) {
	var out map[string]any
	err := json.Unmarshal([]byte(text), &out)
	return out, err
}
