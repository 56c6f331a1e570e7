package dbtest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	_ "modernc.org/sqlite"
)

// spy is a test that reports its failures to another one.
type spy struct {
	testing.TB
	told string
}

func (s *spy) Errorf(format string, args ...any) { s.told += fmt.Sprintf(format, args...) + "\n" }
func (s *spy) Fatalf(format string, args ...any) { s.Errorf(format, args...); runtime.Goexit() }

// tells returns the failures of a test.
func tells(t *testing.T, test func(t testing.TB)) string {
	s, ended := &spy{TB: t}, make(chan struct{})
	go func() { defer close(ended); test(s) }()
	<-ended
	return s.told
}

// stage returns a stage with one operation, which is correct or has a fault.
func stage(t *testing.T, fault string) Stage {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(t.TempDir(), "a.db"))
	if err == nil {
		db.SetMaxOpenConns(1)
		_, err = db.Exec(`CREATE TABLE hills (name TEXT PRIMARY KEY, cold INT); CREATE TABLE told (text TEXT); INSERT INTO hills VALUES ('north', 0)`)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	do := func(ctx context.Context) error {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		_, first := tx.ExecContext(ctx, `UPDATE hills SET cold = 1`)
		_, second := tx.ExecContext(ctx, `INSERT INTO told VALUES ('it is cold')`)
		switch {
		case fault == "in parts":
			err = tx.Commit()
		case fault == "silent" && first == nil && second != nil:
			return nil
		case first == nil && second == nil:
			err = tx.Commit()
		}
		if fault == "refused late" {
			err = errors.New("not so")
		}
		return errors.Join(first, second, err)
	}
	return Stage{DB: db, Acts: []Act{{Name: "it gets cold", Do: do}}}
}

// Unexpected writes, and missing errors, are reported.
func TestFaultsAreFound(t *testing.T) {
	for fault, says := range map[string]string{"": "", "in parts": "failed, and it left [",
		"silent": "INSERT told failed, and it says <nil>"} {
		told := tells(t, func(s testing.TB) { Whole(s, stage(t, ""), stage(t, fault)) })
		if (told == "") != (says == "") || !strings.Contains(told, says) {
			t.Errorf("%q: %s", fault, told)
		}
	}
}

// A difference from the file is reported, with its line.
func TestHeldTransactions(t *testing.T) {
	file := filepath.Join(t.TempDir(), "acts.txt")
	if told := tells(t, func(s testing.TB) { Held(s, stage(t, ""), file, true) }); told != "" {
		t.Fatal(told)
	}
	for fault, says := range map[string]string{"": "", "refused late": "it gets cold was refused, and left ~ hills north | cold: 1"} {
		told := tells(t, func(s testing.TB) { Held(s, stage(t, fault), file, false) })
		if (told == "") != (says == "") || !strings.Contains(told, says) {
			t.Errorf("%q: %s", fault, told)
		}
	}
	other := stage(t, "")
	other.Mask = func(line string) string { return strings.ReplaceAll(line, "cold: 1", "cold: 2") }
	if told := tells(t, func(s testing.TB) { Held(s, other, file, false) }); !strings.Contains(told, "line 2 of "+file) ||
		!strings.Contains(told, "cold: 2\nnot\n  ~ hills north | cold: 1") {
		t.Error(told)
	}
}
