package main

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"rudmar/platform/conform"
)

// conformCommand tests a platform against the protocol.
func conformCommand() *cobra.Command {
	c := &config{}
	var limit time.Duration
	cmd := &cobra.Command{
		Use: "conform URL", Short: "Test a platform against the protocol",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		Long: `Tests every rule of the platform protocol against the platform at an address, in scopes
of its own, and deletes what it created. Exit code 3 means that the platform breaks a
rule. docs/platform-protocol.md explains the rules.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			token, err := c.knownToken()
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), limit)
			defer cancel()
			results, err := conform.Run(ctx, args[0], token)
			if err != nil {
				return err
			}
			broken := 0
			for _, r := range results {
				word := "passed   "
				switch {
				case r.Problem != "":
					word = "FAILED   "
					broken++
				case r.Skipped:
					word = "skipped  "
				}
				fmt.Fprintln(cmd.OutOrStdout(), word, r.Rule)
				if r.Problem != "" {
					fmt.Fprintln(cmd.OutOrStdout(), "          ", r.Problem)
				}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%d rules, %d failed\n", len(results), broken)
			if broken > 0 {
				return coded{exitProblem, nil}
			}
			return nil
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	c.tokenFlag(cmd.Flags())
	durationVar(cmd.Flags(), &limit, "limit", 3*time.Minute, "time limit for all rules")
	return cmd
}
