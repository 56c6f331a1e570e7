package main

import (
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"rudmar/engine"
	"rudmar/engine/store"
)

// keepFlags are the rules of what is kept.
func (c *config) keepFlags(f *pflag.FlagSet) {
	const day = 24 * time.Hour
	f.DurationVar(&c.keep.Plans, "keep-plans", 90*day, "how long plans are kept that were never run; 0 for good")
	f.DurationVar(&c.keep.Logs, "keep-build-logs", 90*day, "how long the logs of builds are kept; 0 for good")
	f.DurationVar(&c.keep.Archives, "keep-archives", 0,
		"how long the archives of versions are kept that run nowhere and are not among the newest 20; 0 for good; one that went is made again when its commit is pushed again")
}

func tidyCommand() *cobra.Command {
	c := &config{}
	var now bool
	cmd := &cobra.Command{
		Use: "tidy", Short: "Show what is old and would be taken away, by the rules of what is kept",
		Args: cobra.NoArgs, PreRunE: environment,
		Long: `Shows what goes by the rules of what is kept, which are those that serve takes:
with other rules, what would go by them. A running Rudmar takes it away by itself
every six hours; --now takes it away at once. Versions, plans that were run and the
journal always stay.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			open := store.OpenReading
			if now {
				open = func(dir string, clock func() time.Time) (*store.Store, error) {
					return store.Open(cmd.Context(), dir, clock)
				}
			}
			s, err := open(c.data, time.Now)
			if err != nil {
				return err
			}
			defer s.Close()
			gone, err := engine.Tidy(cmd.Context(), s, c.data, c.keep, now)
			out := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			word := "would go"
			if now {
				word = "went"
			}
			for _, g := range gone {
				fmt.Fprintf(out, "%d\t%s\t%s, %d KiB\n", g.Count, g.What, word, (g.Bytes+1023)/1024)
			}
			if flushErr := out.Flush(); err == nil {
				err = flushErr
			}
			return err
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	c.keepFlags(cmd.Flags())
	cmd.Flags().BoolVar(&now, "now", false, "take it away")
	return cmd
}
