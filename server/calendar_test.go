package server

import (
	"encoding/json"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"rudmar/engine"
	"rudmar/engine/people"
)

// The calendar of a stage has the times at which its gates let the waiting version enter: within the windows of the
// standing rules and of the version's own, without freezes; with the same UIDs whenever it is read.
func TestStageCalendar(t *testing.T) {
	now := time.Date(2026, 11, 3, 10, 30, 0, 0, time.UTC) // a Tuesday
	s, db := stand(t, engine.Options{Now: func() time.Time { return now }, ObserveEvery: time.Hour})
	if err := s.engine.People.Add(t.Context(), people.NewUser{Username: "wren", Role: "reader", Password: password}, ""); err != nil {
		t.Fatal(err)
	}
	manifests := func(window string) string {
		text, err := json.Marshal(map[string]string{"rudmar.yaml": "service: frostline\nstages:\n  - {stage: live, target: local/north, " +
			"enter: {branch: main}, gates: {window: {" + window + "}}}\n", "freezes.ics": strings.ReplaceAll(`BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Brambleford Growers//freezes//EN
BEGIN:VEVENT
UID:1
DTSTAMP:20261101T000000Z
SUMMARY:Market day
DTSTART:20261104T120000Z
DTEND:20261104T140000Z
END:VEVENT
END:VCALENDAR
`, "\n", "\r\n")})
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	for _, row := range [][]any{
		{`INSERT INTO repositories (name, made_at) VALUES ('brambleford', 1)`},
		{`INSERT INTO services (name, repository, dir, made_at) VALUES ('frostline', 'brambleford', '.', 1)`},
		{`INSERT INTO versions (service, number, hash, branch, author, message, committed_at, built_at, content, manifests)
			VALUES ('frostline', 1, 'a', 'main', '', '', 1, 1, 'a', ?), ('frostline', 2, 'b', 'main', '', '', 1, 1, 'b', ?)`,
			manifests("days: mon-fri, hours: 08:00-13:00"), manifests("days: tue-wed, hours: 10:00-18:00, freezes: freezes.ics")},
		{`INSERT INTO deliveries (service, version, stage, state, since, turn) VALUES ('frostline', 1, 'live', 'settled', 1, 1)`},
		{`INSERT INTO standing (service, stage, version, since) VALUES ('frostline', 'live', 1, 1)`},
	} {
		if _, err := db.ExecContext(t.Context(), row[0].(string), row[1:]...); err != nil {
			t.Fatal(row[0], err)
		}
	}
	a := asks{t, s}
	events := func() map[string]string {
		t.Helper()
		status, text := a.as("wren:"+password, http.MethodGet, "/api/services/frostline/stages/live/calendar", "")
		if status != http.StatusOK {
			t.Fatalf("%d %s", status, text)
		}
		out := map[string]string{}
		form := regexp.MustCompile(`(?s)BEGIN:VEVENT.*?UID:(.*?)\n.*?DTSTART:(\S+).*?DTEND:(\S+).*?SUMMARY:(.*?)\n`)
		for _, e := range form.FindAllStringSubmatch(strings.ReplaceAll(string(text), "\r", ""), -1) {
			out[e[2]+"-"+e[3]] = e[1] + " " + e[4]
		}
		return out
	}
	if got := events()["20261103T080000Z-20261103T130000Z"]; !strings.Contains(got, "frostline can enter live") {
		t.Errorf("without a waiting version: %q", got)
	}
	if _, err := db.ExecContext(t.Context(),
		`INSERT INTO deliveries (service, version, stage, state, since, turn) VALUES ('frostline', 2, 'live', 'waiting', 1, 2)`); err != nil {
		t.Fatal(err)
	}
	first := events()
	for at, want := range map[string]string{"20261103T100000Z-20261103T130000Z": "version 2 of frostline can enter live",
		"20261104T100000Z-20261104T120000Z": "version 2 of frostline can enter live",
		"20261104T120000Z-20261104T140000Z": "live is frozen: Market day"} {
		if !strings.Contains(first[at], want) {
			t.Errorf("%s: %q, not %q, of %v", at, first[at], want, first)
		}
	}
	now = now.Add(47 * time.Minute)
	for at, text := range events() {
		if first[at] != "" && first[at] != text {
			t.Errorf("%s is another event later: %s, not %s", at, text, first[at])
		}
	}
}
