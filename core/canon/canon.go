// Package canon writes JSON values in the canonical form of RFC 8785, and computes digests of it.
//
// All its functions can be called concurrently.
package canon

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Member is one name and value of an object.
type Member struct {
	Name  string
	Value any
}

// Text returns the canonical form of v for people to read; without one, Go's default format.
func Text(v any) string {
	text, err := Append(nil, v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

// Append appends the canonical form of v: nil, bool, string, int, int64, float64, []string, []any,
// map[string]any, or []Member for an object with unique names, which it sorts in place. Other values are
// converted by encoding/json first. Numbers that JSON cannot represent are an error.
func Append(out []byte, v any) ([]byte, error) {
	switch v := v.(type) {
	case nil:
		return append(out, "null"...), nil
	case bool:
		return strconv.AppendBool(out, v), nil
	case string:
		return AppendString(out, v), nil
	case int:
		return appendNumber(out, float64(v))
	case int64:
		return appendNumber(out, float64(v))
	case float64:
		return appendNumber(out, v)
	case []string:
		out = append(out, '[')
		for i, s := range v {
			if i > 0 {
				out = append(out, ',')
			}
			out = AppendString(out, s)
		}
		return append(out, ']'), nil
	case []any:
		return appendList(out, v)
	case map[string]any:
		members := make([]Member, 0, len(v))
		for name, value := range v {
			members = append(members, Member{name, value})
		}
		return appendObject(out, members)
	case []Member:
		return appendObject(out, v)
	}
	plain, err := Plain(v)
	if err != nil {
		return out, err
	}
	return Append(out, plain)
}

// Plain turns any value into JSON's own: nil, bool, string, float64, []any and
// map[string]any.
func Plain(v any) (any, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, fmt.Errorf("canon: %w", err)
	}
	var plain any
	if err := json.Unmarshal(text, &plain); err != nil {
		return nil, fmt.Errorf("canon: %w", err)
	}
	return plain, nil
}

// Digest returns the SHA-256 of the canonical form, as "sha256:" and 64 hexadecimal digits.
func Digest(v any) (string, error) {
	text, err := Append(nil, v)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(text)
	var name [len("sha256:") + 2*sha256.Size]byte
	hex.Encode(name[copy(name[:], "sha256:"):], sum[:])
	return string(name[:]), nil
}

// Equal reports whether two values have the same canonical form.
func Equal(a, b any) bool {
	switch x := a.(type) { // the values that are compared most need no text
	case string:
		y, ok := b.(string)
		return ok && x == y
	case bool:
		y, ok := b.(bool)
		return ok && x == y
	case float64:
		if y, ok := b.(float64); ok {
			return x == y
		}
	}
	x, errX := Append(nil, a)
	y, errY := Append(nil, b)
	return errX == nil && errY == nil && string(x) == string(y)
}

func appendList(out []byte, v []any) ([]byte, error) {
	var err error
	out = append(out, '[')
	for i, item := range v {
		if i > 0 {
			out = append(out, ',')
		}
		if out, err = Append(out, item); err != nil {
			return out, err
		}
	}
	return append(out, ']'), nil
}

func appendObject(out []byte, members []Member) ([]byte, error) {
	slices.SortFunc(members, func(a, b Member) int { return compareUTF16(a.Name, b.Name) })
	var err error
	out = append(out, '{')
	for i, m := range members {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(AppendString(out, m.Name), ':')
		if out, err = Append(out, m.Value); err != nil {
			return out, err
		}
	}
	return append(out, '}'), nil
}

// compareUTF16 compares names by their UTF-16 code units, which differs from their byte order only if both are
// beyond ASCII.
func compareUTF16(a, b string) int {
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		i++
	}
	if i == len(a) || i == len(b) || a[i] < utf8.RuneSelf || b[i] < utf8.RuneSelf {
		return strings.Compare(a, b)
	}
	return slices.Compare(utf16.Encode([]rune(a)), utf16.Encode([]rune(b)))
}

// AppendString appends the canonical form of a text.
func AppendString(out []byte, s string) []byte {
	const digits = "0123456789abcdef"
	out = append(out, '"')
	plain := 0 // start of a run that needs no escape
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= ' ' && c != '"' && c != '\\' && c < utf8.RuneSelf {
			continue
		}
		out = append(out, s[plain:i]...)
		plain = i + 1
		switch c {
		case '"', '\\':
			out = append(out, '\\', c)
		case '\n':
			out = append(out, '\\', 'n')
		case '\r':
			out = append(out, '\\', 'r')
		case '\t':
			out = append(out, '\\', 't')
		case '\b':
			out = append(out, '\\', 'b')
		case '\f':
			out = append(out, '\\', 'f')
		default:
			if c < ' ' {
				out = append(out, '\\', 'u', '0', '0', digits[c>>4], digits[c&15])
				break
			}
			r, size := utf8.DecodeRuneInString(s[i:]) // invalid UTF-8 becomes U+FFFD, as in encoding/json
			out = utf8.AppendRune(out, r)
			i += size - 1
			plain = i + 1
		}
	}
	return append(append(out, s[plain:]...), '"')
}

// appendNumber follows ECMAScript's Number::toString, as RFC 8785 demands.
func appendNumber(out []byte, f float64) ([]byte, error) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return out, fmt.Errorf("canon: %v is not a number in JSON", f)
	}
	if f == 0 {
		return append(out, '0'), nil
	}
	abs := math.Abs(f)
	if abs < 1<<53 && f == math.Trunc(f) {
		return strconv.AppendInt(out, int64(f), 10), nil
	}
	if abs >= 1e-6 && abs < 1e21 {
		return strconv.AppendFloat(out, f, 'f', -1, 64), nil
	}
	text := strconv.AppendFloat(nil, f, 'e', -1, 64)
	if n := len(text); n >= 4 && text[n-4] == 'e' && text[n-2] == '0' { // e-09 → e-9
		text = append(text[:n-2], text[n-1])
	}
	return append(out, text...), nil
}
