package store

import (
	"context"
	"time"
)

// Calendar is a calendar by its address, as it was read last.
type Calendar struct {
	Address string
	Text    string
	Read    time.Time // zero if never read
	Error   string    // the error of the last read; "" if it succeeded
}

// Calendar returns a calendar by its address.
func (s *Store) Calendar(ctx context.Context, address string) (Calendar, error) {
	return one(ctx, s.read, func(r scanner) (Calendar, error) {
		var c Calendar
		var read int64
		err := r.Scan(&c.Address, &c.Text, &read, &c.Error)
		c.Read = millis(read)
		return c, err
	}, `SELECT address, text, read_at, error FROM calendars WHERE address = ?`, address)
}

// PutCalendar stores the content of a calendar; an error is stored alone, and the last content is kept.
func (s *Store) PutCalendar(ctx context.Context, c Calendar) error {
	if c.Error != "" {
		return s.exec(ctx, `INSERT INTO calendars (address, text, read_at, error) VALUES (?, '', 0, ?)
			ON CONFLICT DO UPDATE SET error = excluded.error`, c.Address, c.Error)
	}
	return s.exec(ctx, `INSERT INTO calendars (address, text, read_at, error) VALUES (?, ?, ?, '')
		ON CONFLICT DO UPDATE SET text = excluded.text, read_at = excluded.read_at, error = ''`, c.Address, c.Text, s.stamp())
}
