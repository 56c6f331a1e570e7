package main

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/engine/build"
	"rudmar/engine/store"
)

func versionCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "version", Short: "List, show, compare and verify built versions"}
	cmd.AddCommand(versionListCommand(), versionShowCommand(), versionCompareCommand(), versionVerifyCommand())
	return cmd
}

func versionVerifyCommand() *cobra.Command {
	c := &config{}
	var service string
	verify := &cobra.Command{
		Use: "verify N", Short: "Verify a version against its signed provenance",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		Long: `Verifies, in a data folder and without a server, that a version is unchanged since it was
built: the signature of its provenance, its manifests, the bytes and listing of each
archive, and the list of contents. Exit code 3 means that something differs.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[0])
			if err != nil {
				return coded{exitUsage, fmt.Errorf("version must be a number, not %q", args[0])}
			}
			s, err := store.OpenReading(c.data, time.Now)
			if err != nil {
				return err
			}
			defer s.Close()
			if service == "" {
				if service, err = onlyService(cmd.Context(), s); err != nil {
					return err
				}
			}
			b, err := build.Reader(s, filepath.Join(c.data, "artifacts"))
			if err != nil {
				return err
			}
			facts, checked, err := b.Verify(cmd.Context(), service, number)
			out := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			for _, one := range checked {
				word := "unchanged"
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
				fmt.Fprintf(cmd.OutOrStdout(), "version %d of %s, built from %s on %s of %s, written by %s, pushed by %s\n",
					facts.Version, facts.Service, facts.Commit, facts.Branch, facts.Repository, facts.Author, facts.Person)
			}
			return err
		},
	}
	c.dataFlag(verify.Flags(), "rudmar-data")
	verify.Flags().StringVar(&service, "service", "", "service (default the only one)")
	return verify
}

// onlyService returns the service, if there is only one.
func onlyService(ctx context.Context, s *store.Store) (string, error) {
	services, err := s.Services(ctx)
	if err != nil {
		return "", err
	}
	if len(services) == 1 {
		return services[0].Name, nil
	}
	var names []string
	for _, one := range services {
		names = append(names, one.Name)
	}
	return "", coded{exitUsage, fmt.Errorf("set --service to one of %s", strings.Join(names, ", "))}
}
