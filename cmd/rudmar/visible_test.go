package main

import (
	"bytes"
	"testing"
)

// On a terminal no text that others wrote moves the cursor, sets the title or runs backwards, however it is cut.
func TestControlCharactersAreVisible(t *testing.T) {
	for text, want := range map[string]string{
		"2 °C\tat hill\n":       "2 °C\tat hill\n",
		"raw mode\r\n":          "raw mode\r\n",
		"over\rwritten":         `over\rwritten`,
		"\x1b]0;title\a\x1b[2J": `\x1b]0;title\a\x1b[2J`,
		"\u009b2J":              `\u009b2J`,
		"\u202egnp.exe":         `\u202egnp.exe`,
		"\x9b2J":                `\x9b2J`,
		"\x7f\x00":              `\x7f\x00`,
	} {
		for cut := range len(text) {
			var out bytes.Buffer
			w := &visible{to: &out}
			for _, part := range []string{text[:cut], text[cut:]} {
				if n, err := w.Write([]byte(part)); n != len(part) || err != nil {
					t.Errorf("%q: %d %v", part, n, err)
				}
			}
			if out.String() != want {
				t.Errorf("%q cut at %d: %q", text, cut, out.String())
			}
		}
	}
}
