package main

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"
)

// same has changes without an observable effect: by file, the line with normalized spaces, and the change.
type same map[[3]string]bool

// readSame reads same.csv: file, line, change, reason.
func readSame(r io.Reader) (same, error) {
	rows := csv.NewReader(r)
	rows.Comment, rows.FieldsPerRecord = '#', 4
	all, err := rows.ReadAll()
	if err != nil {
		return nil, fmt.Errorf("reading same.csv: %w", err)
	}
	out := same{}
	for _, row := range all {
		if row[3] == "" {
			return nil, fmt.Errorf("same.csv: %s, %q: say why it changes nothing", row[0], row[1])
		}
		out[[3]string{row[0], spaced(row[1]), row[2]}] = true
	}
	return out, nil
}

func (s same) has(file string, m mutant) bool {
	return s[[3]string{file, spaced(m.original), m.what}]
}

// spaced normalizes the spaces of a line, because its alignment depends on other lines.
func spaced(line string) string { return strings.Join(strings.Fields(line), " ") }
