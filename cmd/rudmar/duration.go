package main

import (
	"fmt"
	"time"

	"github.com/spf13/pflag"

	"rudmar/core/language"
)

// duration is a flag in the units of manifests: 90d, 1h30m.
type duration struct{ value *time.Duration }

func durationVar(f *pflag.FlagSet, p *time.Duration, name string, usual time.Duration, usage string) {
	*p = usual
	f.Var(duration{p}, name, usage)
}

func (d duration) String() string {
	if d.value == nil || *d.value == 0 {
		return ""
	}
	return language.FormatTime(*d.value)
}

func (d duration) Set(text string) error {
	if text == "0" {
		*d.value = 0
		return nil
	}
	value, err := language.ParseTime(text)
	if err != nil {
		return fmt.Errorf("%w; write a duration such as 90d or 1h30m", err)
	}
	*d.value = value
	return nil
}

func (duration) Type() string { return "duration" }
