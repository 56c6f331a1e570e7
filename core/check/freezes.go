package check

import (
	"strings"
	"time"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/timing"
)

// freezes reads the calendars of freezes that lie in the service's folder.
func (w *whole) freezes() {
	for i := range w.out.Stages {
		s := &w.out.Stages[i]
		if s.Gates.Window == nil || s.Gates.Window.Freezes == "" {
			continue
		}
		window := *s.Gates.Window // the cached service stays unchanged
		s.Gates.Window = &window
		if address := window.FreezesAddress(); address != "" {
			if !strings.HasPrefix(address, "https://") && !strings.HasPrefix(address, "http://") {
				w.freeze(s, "%q is not an address that starts with https://", address)
			}
			continue
		}
		if !manifest.IsCalendar(window.Freezes) {
			w.freeze(s, "%q must be an https:// address or the name of an .ics file beside rudmar.yaml", window.Freezes)
			continue
		}
		text, err := w.folder.Read(window.Freezes)
		if err != nil {
			w.freeze(s, "no file %s beside rudmar.yaml", window.Freezes)
			continue
		}
		zone, err := time.LoadLocation(window.Zone)
		if err != nil {
			zone = time.UTC // reported elsewhere
		}
		if window.Calendar, err = timing.ParseCalendar(string(text), zone); err != nil {
			w.freeze(s, "%s: %v", window.Freezes, err)
		}
	}
}

// freeze checks the calendar of a stage.
func (w *whole) freeze(s *manifest.Stage, format string, args ...any) {
	at := diagnostic.Range{File: s.From.File, Line: int(s.From.Line), Column: int(s.From.Column)}
	at.EndLine, at.EndColumn = at.Line, at.Column+1
	d := w.add(diagnostic.CodeRange, at, "the freezes of "+s.Name+": "+format, args...)
	d.Stage = s.Name
}
