package main

import (
	"bytes"
	"io"
	"os"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// visible writes text to a terminal with control characters as escapes, so that what a function or a commit wrote
// cannot move the cursor, change the title or hide other text.
type visible struct {
	to   io.Writer
	rest []byte // of a character that is not complete yet
}

// shown returns a writer for a file: control characters are visible if it is a terminal.
func shown(file *os.File) io.Writer {
	if !term.IsTerminal(int(file.Fd())) {
		return file
	}
	return &visible{to: file}
}

// Write writes all complete characters.
func (v *visible) Write(p []byte) (int, error) {
	text := append(v.rest, p...)
	v.rest = nil
	var out bytes.Buffer
	for len(text) > 0 {
		if !utf8.FullRune(text) || string(text) == "\r" {
			v.rest = bytes.Clone(text)
			break
		}
		r, size := utf8.DecodeRune(text)
		switch {
		case r == '\n' || r == '\t' || r == '\r' && bytes.HasPrefix(text, []byte("\r\n")):
			out.WriteRune(r)
		case r == utf8.RuneError && size == 1, unicode.IsControl(r), unicode.Is(unicode.Bidi_Control, r):
			quoted := strconv.QuoteToASCII(string(text[:size]))
			out.WriteString(strings.Trim(quoted, `"`))
		default:
			out.Write(text[:size])
		}
		text = text[size:]
	}
	if _, err := v.to.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(p), nil
}
