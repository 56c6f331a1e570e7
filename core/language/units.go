package language

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Errors of values with units. They tell which unit is missing or wrong.
var (
	ErrNoUnit    = errors.New("a unit is missing")
	ErrWrongUnit = errors.New("not a unit")
	ErrNotNumber = errors.New("not a number")
)

// ParseSize reads an IEC size such as "192 MiB" into bytes. Units: KiB, MiB, GiB.
func ParseSize(text string) (int64, error) {
	number, unit, err := split(text)
	if err != nil {
		return 0, err
	}
	shift, ok := map[string]uint{"KiB": 10, "MiB": 20, "GiB": 30}[unit]
	switch {
	case unit == "":
		return 0, ErrNoUnit
	case !ok:
		return 0, ErrWrongUnit
	}
	bytes := number * float64(int64(1)<<shift)
	if bytes < 0 || bytes > 1<<50 {
		return 0, fmt.Errorf("%s: %w", text, ErrNotNumber)
	}
	return int64(bytes), nil
}

// ParseTime reads a length of time such as "10s", "1h30m" or "14d". Units: ms, s, m, h, d.
func ParseTime(text string) (time.Duration, error) {
	units := map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "m": time.Minute,
		"h": time.Hour, "d": 24 * time.Hour}
	rest, total := strings.ReplaceAll(text, " ", ""), time.Duration(0)
	if rest == "" {
		return 0, ErrNotNumber
	}
	for rest != "" {
		n := 0
		for n < len(rest) && (rest[n] >= '0' && rest[n] <= '9' || rest[n] == '.') {
			n++
		}
		number, err := strconv.ParseFloat(rest[:n], 64)
		if err != nil {
			return 0, ErrNotNumber
		}
		rest = rest[n:]
		n = 0
		for n < len(rest) && (rest[n] < '0' || rest[n] > '9') {
			n++
		}
		unit, ok := units[rest[:n]]
		switch {
		case n == 0:
			return 0, ErrNoUnit
		case !ok:
			return 0, ErrWrongUnit
		}
		part := number * float64(unit)
		if part > float64(100*365*24*time.Hour) {
			return 0, ErrNotNumber
		}
		total += time.Duration(part)
		rest = rest[n:]
	}
	return total, nil
}

// ParseShare reads a share such as "10%" as a fraction from 0 to 1.
func ParseShare(text string) (float64, error) {
	number, unit, err := split(text)
	switch {
	case err != nil:
		return 0, err
	case unit == "":
		return 0, ErrNoUnit
	case unit != "%":
		return 0, ErrWrongUnit
	}
	return number / 100, nil
}

func split(text string) (number float64, unit string, err error) {
	text = strings.TrimSpace(text)
	n := 0
	for n < len(text) && (text[n] >= '0' && text[n] <= '9' || text[n] == '.' || n == 0 && text[n] == '-') {
		n++
	}
	number, err = strconv.ParseFloat(text[:n], 64)
	if err != nil || math.IsInf(number, 0) {
		return 0, "", ErrNotNumber
	}
	return number, strings.TrimSpace(text[n:]), nil
}

// FormatSize formats bytes in the manifest form.
func FormatSize(bytes int64) string {
	switch {
	case bytes >= 1<<30 && bytes%(1<<30) == 0:
		return fmt.Sprintf("%d GiB", bytes>>30)
	case bytes >= 1<<20:
		return strconv.FormatFloat(math.Round(float64(bytes)/(1<<20)*10)/10, 'f', -1, 64) + " MiB"
	}
	return fmt.Sprintf("%d KiB", bytes>>10)
}

// FormatTime formats a duration in the manifest form.
func FormatTime(d time.Duration) string {
	if d <= 0 {
		return "0s"
	}
	out := ""
	for _, u := range []struct {
		name string
		size time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond}} {
		if n := d / u.size; n > 0 {
			out += fmt.Sprintf("%d%s", n, u.name)
			d -= n * u.size
		}
	}
	return out
}

// FormatCount returns a number with a noun, with an s for the plural: "1 step", "3 steps".
func FormatCount(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %s", n, word+"s")
}

// FormatShare formats a share as a percentage of at most three digits, never in scientific notation: "12.5%",
// "under 0.01%" and "over 1000%" at the ends.
func FormatShare(share float64) string {
	switch {
	case share > 0 && share < 0.0001:
		return "under 0.01%"
	case share > 10:
		return "over 1000%"
	}
	return FormatNumber(share*100) + "%"
}

// FormatNumber formats a number with three significant digits, and all digits before the point.
func FormatNumber(n float64) string {
	if n == 0 || math.IsNaN(n) || math.IsInf(n, 0) {
		return strconv.FormatFloat(n, 'f', -1, 64)
	}
	digits := max(0, 2-int(math.Floor(math.Log10(math.Abs(n)))))
	scale := math.Pow(10, float64(digits))
	return strconv.FormatFloat(math.Round(n*scale)/scale, 'f', -1, 64)
}
