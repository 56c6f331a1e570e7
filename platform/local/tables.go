package local

import (
	"database/sql"
	"encoding/json"
	"errors"
	"net/http"

	"github.com/labstack/echo/v5"
)

func (p *Platform) queryTable(c *echo.Context, at member, table, _ string) error {
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

func (p *Platform) readRow(c *echo.Context, at member, table, key string) error {
	var value string
	err := p.store.db.QueryRowContext(c.Request().Context(),
		`SELECT value FROM tables WHERE region = ? AND service = ? AND stage = ? AND name = ? AND key = ?`,
		at.region, at.service, at.stage, table, key).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return refuse(http.StatusNotFound, "tables/%s has no row %q", table, key)
	}
	if err != nil {
		return err
	}
	return c.JSONBlob(http.StatusOK, []byte(value))
}

func (p *Platform) writeRow(c *echo.Context, at member, table, key string) error {
	row, err := body(c, maxRowBytes, "a row")
	switch {
	case err != nil:
		return err
	case !json.Valid(row):
		return refuse(http.StatusUnprocessableEntity, "a row must be JSON")
	}
	_, err = p.store.db.ExecContext(c.Request().Context(),
		`INSERT INTO tables (region, service, stage, name, key, value, changed_at) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT DO UPDATE SET value = excluded.value, changed_at = excluded.changed_at`,
		at.region, at.service, at.stage, table, key, string(row), p.options.Now().UnixMilli())
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (p *Platform) deleteRow(c *echo.Context, at member, table, key string) error {
	if _, err := p.store.db.ExecContext(c.Request().Context(),
		`DELETE FROM tables WHERE region = ? AND service = ? AND stage = ? AND name = ? AND key = ?`,
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
