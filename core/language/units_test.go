package language_test

import (
	"errors"
	"math/rand/v2"
	"testing"
	"time"

	"rudmar/core/language"
)

func TestSizes(t *testing.T) {
	tests := []struct {
		text string
		want int64
		err  error
	}{
		{"128 MiB", 128 << 20, nil}, {"1GiB", 1 << 30, nil}, {"64 KiB", 64 << 10, nil}, {"1.5 GiB", 3 << 29, nil},
		{"128", 0, language.ErrNoUnit}, {"128 MB", 0, language.ErrWrongUnit}, {"128 mib", 0, language.ErrWrongUnit},
		{"", 0, language.ErrNotNumber}, {"MiB", 0, language.ErrNotNumber}, {"-1 MiB", 0, language.ErrNotNumber},
		{"1e9 GiB", 0, language.ErrWrongUnit}, {"9999999 GiB", 0, language.ErrNotNumber},
	}
	for _, tt := range tests {
		if got, err := language.ParseSize(tt.text); got != tt.want || !errors.Is(err, tt.err) {
			t.Errorf("%q: %d %v, want %d %v", tt.text, got, err, tt.want, tt.err)
		}
	}
}

func TestTimes(t *testing.T) {
	tests := []struct {
		text string
		want time.Duration
		err  error
	}{
		{"10s", 10 * time.Second, nil}, {"250ms", 250 * time.Millisecond, nil}, {"1h30m", 90 * time.Minute, nil},
		{"14d", 14 * 24 * time.Hour, nil}, {"0.5s", 500 * time.Millisecond, nil}, {"1 h", time.Hour, nil},
		{"10", 0, language.ErrNoUnit}, {"10 sec", 0, language.ErrWrongUnit}, {"", 0, language.ErrNotNumber},
		{"s", 0, language.ErrNotNumber}, {"-5s", 0, language.ErrNotNumber}, {"99999999999d", 0, language.ErrNotNumber},
	}
	for _, tt := range tests {
		if got, err := language.ParseTime(tt.text); got != tt.want || !errors.Is(err, tt.err) {
			t.Errorf("%q: %v %v, want %v %v", tt.text, got, err, tt.want, tt.err)
		}
	}
}

func TestTrafficShares(t *testing.T) {
	for text, want := range map[string]float64{"10%": 0.1, "0.5 %": 0.005, "100%": 1} {
		if got, err := language.ParseShare(text); got != want || err != nil {
			t.Errorf("%q: %v %v", text, got, err)
		}
	}
	for _, text := range []string{"10", "ten%", "", "5 percent"} {
		if _, err := language.ParseShare(text); err == nil {
			t.Errorf("%q was taken", text)
		}
	}
}

// What is formatted reads back as the same.
func TestFormatsRoundTrip(t *testing.T) {
	dice := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		size := dice.Int64N(4096) << 20
		if size > 0 {
			if back, err := language.ParseSize(language.FormatSize(size)); back != size || err != nil {
				t.Fatalf("%d is written %q and reads %d %v", size, language.FormatSize(size), back, err)
			}
		}
		d := time.Duration(dice.Int64N(int64(30*24*time.Hour))).Truncate(time.Millisecond) + time.Millisecond
		if back, err := language.ParseTime(language.FormatTime(d)); back != d || err != nil {
			t.Fatalf("%v is written %q and reads %v %v", d, language.FormatTime(d), back, err)
		}
	}
}
