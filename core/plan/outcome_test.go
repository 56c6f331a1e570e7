package plan

import (
	"os"
	"slices"
	"strings"
	"testing"
)

// row is a row of the table of outcomes in docs/architecture.md.
type row struct{ record, actual, outcome string }

func documented(t *testing.T) []row {
	t.Helper()
	text, err := os.ReadFile("../../docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, found := strings.Cut(string(text), "| record → wanted | live | outcome |\n|---|---|---|\n")
	if !found {
		t.Fatal("docs/architecture.md has no table of outcomes")
	}
	var out []row
	for line := range strings.Lines(table) {
		cells := strings.Split(strings.Trim(line, "|\n "), "|")
		if len(cells) != 3 {
			break
		}
		out = append(out, row{strings.TrimSpace(cells[0]), strings.TrimSpace(cells[1]), strings.TrimSpace(cells[2])})
	}
	return out
}

// The outcomes of a resource's three states match the table in docs/architecture.md: each row is executed.
func TestOutcomesMatchTheirTable(t *testing.T) {
	type m = map[string]any
	a, b, c := m{"soft": "a"}, m{"soft": "b"}, m{"soft": "c"}
	hardA, hardB, hardC := m{"hard": "a"}, m{"hard": "b"}, m{"hard": "c"}
	tests := []struct {
		record, actual string // of the row
		states         states
		want           outcome
		says           string // in the row's outcome
	}{
		{"same", "same", states{a, a, a}, outcome{}, "unchanged"},
		{"same", "same", states{m{}, m{}, m{}}, outcome{}, "unchanged"},
		{"differs", "as recorded", states{a, a, b}, outcome{Change: "update"}, "update"},
		{"differs", "as recorded", states{hardA, hardA, hardB}, outcome{Change: "replace"}, "or replace"},
		{"same", "differs", states{a, b, a}, outcome{Change: "restore"}, "restore"},
		{"same", "differs", states{hardA, hardB, hardA}, outcome{Change: "replace", RevertsDrift: true}, "replace"},
		{"differs", "differs from both", states{m{"hard": "a", "soft": "a"}, m{"hard": "b", "soft": "a"},
			m{"hard": "b", "soft": "b"}}, outcome{Change: "update", RevertsDrift: true}, "update"},
		{"differs", "already as wanted", states{a, b, b}, outcome{Change: "update", RecordOnly: true},
			"only the record changes"},
		{"differs", "already as wanted", states{hardA, hardB, hardB}, outcome{Change: "replace", RecordOnly: true},
			"only the record changes"},
		{"differs", "differs from both", states{a, c, b}, outcome{Change: "update", RevertsDrift: true},
			"update, marked as also undoing drift"},
		{"differs", "differs from both", states{hardA, hardC, hardB},
			outcome{Change: "replace", RevertsDrift: true}, "undoing drift"},
		{"not recorded, wanted", "absent", states{nil, nil, a}, outcome{Change: "create"}, "create"},
		{"not recorded, wanted", "present", states{nil, b, a}, outcome{Change: "adopt"}, "adopt"},
		{"not recorded, wanted", "present", states{nil, a, a}, outcome{Change: "adopt", RecordOnly: true}, "adopt"},
		{"not recorded, wanted", "present", states{nil, hardB, hardA}, outcome{Conflict: true},
			"a problem that stops the plan"},
		{"recorded, wanted", "absent", states{a, nil, b}, outcome{Change: "create"}, "create again"},
		{"recorded, not wanted", "present", states{a, b, nil}, outcome{Change: "delete"}, "delete"},
		{"recorded, not wanted", "absent", states{a, nil, nil}, outcome{Change: "delete", RecordOnly: true},
			"only the record changes"},
		{"", "", states{nil, a, nil}, outcome{}, ""}, // unmanaged
	}
	inPlace := func(names []string) bool { return !slices.Contains(names, "hard") }
	table := documented(t)
	carriedOut := map[row]bool{}
	for _, tt := range tests {
		if got := tt.states.outcome(inPlace); got != tt.want {
			t.Errorf("%v: %+v, want %+v", tt.states, got, tt.want)
		}
		i := slices.IndexFunc(table, func(r row) bool { return r.record == tt.record && r.actual == tt.actual })
		switch {
		case tt.record == "":
		case i < 0:
			t.Errorf("the table has no row %q | %q", tt.record, tt.actual)
		case !strings.Contains(table[i].outcome, tt.says):
			t.Errorf("the table says %q of %q | %q, not %q", table[i].outcome, tt.record, tt.actual, tt.says)
		default:
			carriedOut[table[i]] = true
		}
	}
	for _, r := range table {
		if !carriedOut[r] {
			t.Errorf("no test for the row %+v", r)
		}
	}
	if len(table) != 10 {
		t.Errorf("the table has %d rows", len(table))
	}
}
