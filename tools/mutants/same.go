package main

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"
)

// same holds changes that were read and found to change nothing that can be
// seen: by file, the line as it is written but for how its words are spaced, and the change.
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

// spaced returns a line with one space between its words: how they are aligned depends on other lines.
func spaced(line string) string { return strings.Join(strings.Fields(line), " ") }
