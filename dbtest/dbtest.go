// Package dbtest tests operations on a database: what each changes, row by row, and that it
// changes nothing if one of its writes fails.
package dbtest

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
)

// Act is one operation on a database.
type Act struct {
	Name string
	Do   func(ctx context.Context) error
}

// Stage is the environment of operations: each has its own database.
type Stage struct {
	Acts []Act
	DB   *sql.DB
	// After runs after each operation, such as advancing a clock; nil for nothing.
	After func()
	// InParts names the operations with several transactions: they are repeated until all is written, and the
	// result is that of one transaction.
	InParts []string
	// Mask hides values that differ between runs, such as random ones; nil for nothing.
	Mask func(line string) string
}

// rows are those of all tables: by table and key, the values of the other columns.
type rows map[string]map[string]any

// read reads all tables except those of the database itself and of its migrations. A table without a key uses
// all its columns as key.
func read(t testing.TB, db *sql.DB) rows {
	t.Helper()
	ask := func(query string, take func(row map[string]any)) {
		t.Helper()
		list, err := db.QueryContext(t.Context(), query)
		if err != nil {
			t.Fatal(err)
		}
		defer list.Close()
		names, err := list.Columns()
		for err == nil && list.Next() {
			values, into, row := make([]any, len(names)), make([]any, len(names)), map[string]any{}
			for i := range values {
				into[i] = &values[i]
			}
			err = list.Scan(into...)
			for i, v := range values {
				if text, ok := v.([]byte); ok {
					v = string(text)
				}
				row[names[i]] = v
			}
			take(row)
		}
		if err != nil || list.Err() != nil {
			t.Fatal(err, list.Err())
		}
	}
	keys, all := map[string][]string{}, map[string][]string{} // by table
	ask(`SELECT t.name AS name, c.name AS col, c.pk AS pk FROM sqlite_master t, pragma_table_info(t.name) c
		WHERE t.type = 'table' AND t.name NOT LIKE 'sqlite_%' AND t.name NOT LIKE 'goose_%' ORDER BY t.name, c.pk, c.cid`,
		func(row map[string]any) {
			table, column := row["name"].(string), row["col"].(string)
			if all[table] = append(all[table], column); row["pk"] != int64(0) {
				keys[table] = append(keys[table], column)
			}
		})
	out := rows{}
	for table, key := range all {
		if len(keys[table]) > 0 {
			key = keys[table]
		}
		ask(`SELECT * FROM `+table, func(row map[string]any) {
			parts := []string{table}
			for _, column := range key {
				parts = append(parts, fmt.Sprint(row[column]))
				delete(row, column)
			}
			maps.DeleteFunc(row, func(_ string, v any) bool { return v == nil || v == "" || v == int64(0) })
			out[strings.Join(parts, " ")] = row
		})
	}
	return out
}

// change lists, sorted, the changes of rows: "-" for deleted, "+" for inserted, and "~" for updated rows with
// their changed columns; "-" for a value is none.
func change(before, after rows) []string {
	var out []string
	for key := range before {
		if after[key] == nil {
			out = append(out, "- "+key)
		}
	}
	for key, now := range after {
		was := before[key]
		var columns []string
		for column := range now {
			if was[column] != now[column] {
				columns = append(columns, column)
			}
		}
		for column := range was {
			if now[column] == nil {
				columns = append(columns, column)
			}
		}
		if was != nil && len(columns) == 0 {
			continue
		}
		line := "+ " + key
		if was != nil {
			line = "~ " + key
		}
		slices.Sort(columns)
		for _, column := range columns {
			value := now[column]
			if value == nil {
				value = "-"
			}
			line += fmt.Sprintf(" | %s: %v", column, value)
		}
		out = append(out, strings.ReplaceAll(line, "\n", "⏎"))
	}
	slices.SortFunc(out, func(a, b string) int { return strings.Compare(a[2:], b[2:]) })
	return out
}

// Held compares the writes of each operation with a file, or its error: then it must write nothing. With update
// the file is written again.
func Held(t testing.TB, s Stage, file string, update bool) {
	t.Helper()
	var lines []string
	before := read(t, s.DB)
	for _, a := range s.Acts {
		lines = append(lines, a.Name)
		err := a.Do(t.Context())
		if err != nil {
			lines = append(lines, "  refused: "+strings.TrimSpace(err.Error()))
		}
		after := read(t, s.DB)
		for _, line := range change(before, after) {
			if err != nil {
				t.Errorf("%s was refused, and left %s", a.Name, line)
			}
			if s.Mask != nil {
				line = s.Mask(line)
			}
			lines = append(lines, "  "+line)
		}
		before = after
		s.after()
	}
	Same(t, lines, file, update)
}

// Same compares lines with a file. With update the file is written again.
func Same(t testing.TB, lines []string, file string, update bool) {
	t.Helper()
	if update {
		if err := os.WriteFile(file, []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	want := strings.Split(strings.TrimSuffix(string(kept), "\n"), "\n")
	for i := range max(len(lines), len(want)) {
		at := func(list []string) string { return strings.Join(list[min(i, len(list)):min(i+1, len(list))], "") }
		if at(lines) != at(want) {
			t.Fatalf("line %d of %s is otherwise (-update writes it anew):\n%s\nnot\n%s", i+1, file, at(lines), at(want))
		}
	}
}

// Whole makes each operation fail at each table that it writes to: it must report the error and write nothing.
// Repeated without the fault, it must do the same as without one: smooth has the same operations, without
// faults. It returns the number of faults.
func Whole(t testing.TB, smooth, rough Stage) (faults int) {
	t.Helper()
	for i, a := range rough.Acts {
		before := read(t, smooth.DB)
		refused := smooth.Acts[i].Do(t.Context()) != nil
		verbs := map[string]string{} // by table: the kinds of writes
		for _, line := range change(before, read(t, smooth.DB)) {
			table, _, _ := strings.Cut(line[2:], " ")
			verb := map[byte]string{'+': "INSERT", '-': "DELETE", '~': "UPDATE"}[line[0]]
			if known := verbs[table]; known != "" && known != verb { // a key changed
				verb = "UPDATE"
			}
			verbs[table] = verb
		}
		was := read(t, rough.DB)
		for table, verb := range verbs {
			exec(t, rough.DB, "CREATE TRIGGER fault BEFORE "+verb+" ON "+table+
				" BEGIN SELECT RAISE(ABORT, 'the disk is full'); END")
			err := a.Do(t.Context())
			exec(t, rough.DB, "DROP TRIGGER fault")
			faults++
			if slices.Contains(rough.InParts, a.Name) {
				continue
			}
			if err == nil || !strings.Contains(err.Error(), "the disk is full") {
				t.Fatalf("%s: %s %s failed, and it says %v", a.Name, verb, table, err)
			}
			if left := change(was, read(t, rough.DB)); len(left) > 0 {
				t.Errorf("%s: %s %s failed, and it left %s", a.Name, verb, table, left)
			}
		}
		if err := a.Do(t.Context()); (err != nil) != refused {
			t.Fatalf("%s: after its faults: %v", a.Name, err)
		}
		smooth.after()
		rough.after()
	}
	for _, line := range change(smooth.masked(read(t, smooth.DB)), rough.masked(read(t, rough.DB))) {
		t.Errorf("in the end faults left %s", line)
	}
	return faults
}

// masked masks whole rows: keys can be random, too.
func (s Stage) masked(all rows) rows {
	if s.Mask == nil {
		return all
	}
	out := rows{}
	for key, row := range all {
		out[s.Mask(fmt.Sprint(key, " ", row))] = map[string]any{}
	}
	return out
}

func (s Stage) after() {
	if s.After != nil {
		s.After()
	}
}

func exec(t testing.TB, db *sql.DB, text string) {
	t.Helper()
	if _, err := db.ExecContext(t.Context(), text); err != nil {
		t.Fatal(err)
	}
}
