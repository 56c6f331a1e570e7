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
	cmd := &cobra.Command{Use: "version", Short: "Look into versions that were built"}
	c := &config{}
	var service string
	verify := &cobra.Command{
		Use: "verify N", Short: "Hold all that is kept of a version against its signed provenance",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		Long: `Checks, in a data folder and without a server, that a version is as it was
built: the signature of its provenance, its manifests, each archive's bytes and
listing, and the list of what is inside. Exit code 3 tells that something is not.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[0])
			if err != nil {
				return coded{exitUsage, fmt.Errorf("%q is not the number of a version", args[0])}
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
				fmt.Fprintf(cmd.OutOrStdout(), "version %d of %s, built from %s on %s of %s, written by %s, pushed by %s\n",
					facts.Version, facts.Service, facts.Commit, facts.Branch, facts.Repository, facts.Author, facts.Person)
			}
			return err
		},
	}
	c.dataFlag(verify.Flags(), "rudmar-data")
	verify.Flags().StringVar(&service, "service", "", "the service; not needed where there is one alone")
	cmd.AddCommand(verify)
	return cmd
}

// onlyService gives the one service that there is.
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
	return "", coded{exitUsage, fmt.Errorf("say with --service which one: there are %s", strings.Join(names, ", "))}
}
