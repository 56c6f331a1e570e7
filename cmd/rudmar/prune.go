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

// keepFlags are the flags of the retention rules.
func (c *config) keepFlags(f *pflag.FlagSet) {
	const day = 24 * time.Hour
	durationVar(f, &c.keep.Plans, "keep-plans", 90*day, "retention of plans that were never run; 0 keeps them forever")
	durationVar(f, &c.keep.Logs, "keep-build-logs", 90*day, "retention of build logs; 0 keeps them forever")
	durationVar(f, &c.keep.Archives, "keep-archives", 0,
		"retention of archives of versions that are not deployed and not among the newest 20; 0 keeps them forever; a deleted archive is rebuilt when its commit is pushed again (default 0)")
}

func pruneCommand() *cobra.Command {
	c := &config{}
	var now bool
	cmd := &cobra.Command{
		Use: "prune", Short: "Show and delete data beyond its retention",
		Args: cobra.NoArgs, PreRunE: environment,
		Long: `Shows the data that the retention rules of serve would delete; with other rules, the data
that those would delete. A running Rudmar prunes every six hours; --now prunes at once.
Versions, executed plans and the journal are always kept.`,
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
			word := "to delete"
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
	cmd.Flags().BoolVar(&now, "now", false, "delete now")
	return cmd
}
