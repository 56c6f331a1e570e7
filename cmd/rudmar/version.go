package main

import (
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"strconv"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/engine/build"
	"rudmar/engine/store"
)

func versionCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "version", Short: "Look into versions that were built"}
	c := &config{}
	var service string
	verify := &cobra.Command{
		Use: "verify N", Short: "Hold all that is kept of a version against its signed provenance", Args: cobra.ExactArgs(1), PreRunE: environment,
		Long: `Checks, in a data folder and without a server, that a version is as it was
built: the signature of its provenance, its manifests, each archive's bytes and
listing, and the list of what is inside. Exit code 3 tells that something is not.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[0])
			if err != nil {
				return coded{exitUsage, fmt.Errorf("%q is not the number of a version", args[0])}
			}
			s, err := store.Open(cmd.Context(), c.data, time.Now)
			if err != nil {
				return err
			}
			defer s.Close()
			b, err := build.New(build.Config{Store: s, Dir: filepath.Join(c.data, "artifacts"), Log: slog.Default()})
			if err != nil {
				return err
			}
			facts, checked, err := b.Verify(cmd.Context(), service, number)
			out := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			for _, one := range checked {
				word := "as it was built"
				if one.Problem != "" {
					word = "ALTERED: " + one.Problem
				}
				fmt.Fprintf(out, "%s\t%s\n", one.What, word)
			}
			if flushErr := out.Flush(); flushErr != nil {
				return flushErr
			}
			if errors.Is(err, build.ErrAltered) {
				return coded{exitProblem, err}
			}
			if err == nil {
				fmt.Fprintf(cmd.OutOrStdout(), "version %d of %s, built from %s on %s of %s, by %s\n", facts.Version, facts.Service, facts.Commit, facts.Branch, facts.Repository, facts.Author)
			}
			return err
		},
	}
	c.dataFlag(verify.Flags(), "demo-data")
	verify.Flags().StringVar(&service, "service", "frostline", "the service")
	cmd.AddCommand(verify)
	return cmd
}
