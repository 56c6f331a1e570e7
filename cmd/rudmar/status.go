package main

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"rudmar/server/api"
)

func statusCommand() *cobra.Command {
	c := &config{}
	var format string
	cmd := &cobra.Command{
		Use: "status SERVICE", Short: "Show the stages of a service and the versions waiting to enter them",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			var line api.StageLine
			if err := c.ask(cmd.Context(), http.MethodGet, "/services/"+url.PathEscape(args[0])+"/stage-line", nil,
				&line); err != nil {
				return err
			}
			if format == "json" {
				return printJSON(cmd.OutOrStdout(), line)
			}
			if format != "text" {
				return coded{exitUsage, fmt.Errorf("unknown format %q (expected text or json)", format)}
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "STAGE\tVERSION\tSTATE\tDRIFT\tNEXT")
			for _, s := range line.Stages {
				there, next := "none", ""
				if s.Version > 0 {
					there = strconv.Itoa(s.Version)
				}
				if s.Next != nil {
					next = fmt.Sprintf("version %d: %s", s.Next.Version, s.Next.Summary)
				}
				state := string(s.State)
				if s.Problem != nil {
					state += ": " + *s.Problem
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%d\t%s\n", s.Stage, there, state, s.Drifted, next)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&format, "format", "text", "output format: text or json")
	return cmd
}

func buildCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "build", Short: "List, show, cancel and retry builds"}
	cmd.AddCommand(
		buildSubcommand("list SERVICE", "List the newest builds of a service", 1,
			func(c *config, cmd *cobra.Command, args []string) error {
				list, err := c.builds(cmd, args[0])
				if err != nil {
					return err
				}
				table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
				for _, b := range list {
					result := b.Reason
					if b.Version > 0 {
						result = fmt.Sprintf("version %d", b.Version)
					}
					fmt.Fprintf(table, "%d\t%.10s\t%s\t%s\t%s\t%s\n", b.Id, b.Hash, b.Branch, b.Person, b.State, result)
				}
				return table.Flush()
			}),
		buildSubcommand("show SERVICE NUMBER", "Show the log of a build; exit code 1 means that it failed", 2,
			func(c *config, cmd *cobra.Command, args []string) error {
				list, err := c.builds(cmd, args[0])
				if err != nil {
					return err
				}
				return printBuild(cmd, list, args[1])
			}),
		buildSubcommand("cancel SERVICE NUMBER", "Cancel a queued or running build", 2,
			func(c *config, cmd *cobra.Command, args []string) error {
				return c.ask(cmd.Context(), http.MethodDelete,
					"/services/"+url.PathEscape(args[0])+"/builds/"+url.PathEscape(args[1]), nil, nil)
			}),
		buildSubcommand("retry SERVICE NUMBER", "Run a failed or cancelled build again", 2,
			func(c *config, cmd *cobra.Command, args []string) error {
				return c.ask(cmd.Context(), http.MethodPost,
					"/services/"+url.PathEscape(args[0])+"/builds/"+url.PathEscape(args[1])+"/retry", nil, nil)
			}))
	return cmd
}

func buildSubcommand(use, short string, args int,
	run func(c *config, cmd *cobra.Command, args []string) error) *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(args), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error { return run(c, cmd, args) }}
	c.clientFlags(cmd.Flags())
	return cmd
}

func (c *config) builds(cmd *cobra.Command, service string) ([]api.Build, error) {
	var list []api.Build
	err := c.ask(cmd.Context(), http.MethodGet, "/services/"+url.PathEscape(service)+"/builds", nil, &list)
	return list, err
}

func printBuild(cmd *cobra.Command, list []api.Build, number string) error {
	for _, b := range list {
		if strconv.FormatInt(b.Id, 10) != number {
			continue
		}
		fmt.Fprint(cmd.OutOrStdout(), b.Log)
		if b.State == api.BuildStateFailed {
			return coded{exitFailed, errors.New(b.Reason)}
		}
		return nil
	}
	return coded{exitUsage, fmt.Errorf("build %s is not among the newest %d", number, len(list))}
}

func deployCommand() *cobra.Command {
	c := &config{}
	var target, confirm string
	var at about
	var version int
	var agree consent
	cmd := &cobra.Command{
		Use: "deploy [SERVICE STAGE]", Short: "Plan a stage and run the plan",
		Long: `Computes a plan for the deployed version, or for --version, shows it and runs it: it
reverts drift, or finishes the rest of a delivery. To deliver a new version through the
stage's gates, use rudmar delivery request.

Exit codes: 0 succeeded or no changes, 4 the deployment failed, 5 blockers.`,
		Args: cobra.MaximumNArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := at.read(args, false); err != nil {
				return err
			}
			targets, err := c.targets(cmd.Context(), at.service, at.stage, target)
			if err != nil {
				return err
			}
			for _, t := range targets {
				wish := api.PlanRequest{Stage: at.stage, Target: &t}
				if version > 0 {
					wish.Version = &version
				}
				if err := c.deploy(cmd, at.service, wish, confirm, agree); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	at.flag(cmd)
	cmd.Flags().IntVar(&version, "version", 0, "version (default the deployed one)")
	cmd.Flags().StringVar(&target, "target", "", "target, if the stage has several (default all)")
	cmd.Flags().StringVar(&confirm, "confirm", "",
		"name of the stage, to confirm a deletion or a new public route without a prompt")
	agree.flags(cmd, true)
	return cmd
}

// deploy plans one target, prints the plan and executes it.
func (c *config) deploy(cmd *cobra.Command, service string, wish api.PlanRequest, confirm string, agree consent) error {
	ctx := cmd.Context()
	var kept api.SavedPlan
	if err := c.ask(ctx, http.MethodPost, "/services/"+url.PathEscape(service)+"/plans", wish, &kept); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Plan %d, %s: %s\n", kept.Id, *wish.Target, kept.Plan.Sentence)
	printChanges(cmd.OutOrStdout(), "  ", kept.Plan.Changes, kept.Plan.Impact)
	switch {
	case len(kept.Plan.Blockers) > 0:
		for _, p := range kept.Plan.Blockers {
			fmt.Fprintln(cmd.OutOrStdout(), "  blocker: "+p.Message)
		}
		return coded{exitBlocked, nil}
	case len(kept.Plan.Steps) == 0:
		return nil
	}
	fmt.Fprintf(cmd.OutOrStdout(), "  digest %s\n", kept.Plan.Digest)
	var run api.RunRequest
	if kept.Confirm != nil {
		typed, err := confirmed(cmd, confirm, wish.Stage)
		if err != nil {
			return errors.Join(err, errors.New(*kept.Confirm))
		}
		run.Confirm = &typed
	}
	if run.Confirm == nil || len(agree.digests) > 0 {
		if err := agree.ask(cmd, fmt.Sprintf("Run plan %d?", kept.Id), kept.Plan.Digest); err != nil {
			return err
		}
	}
	var begun struct{ Deployment int64 }
	if err := c.ask(ctx, http.MethodPost, fmt.Sprintf("/plans/%d/deployments", kept.Id), run, &begun); err != nil {
		return err
	}
	if begun.Deployment == 0 {
		fmt.Fprintln(cmd.OutOrStdout(), "the delivery continues with a plan of its own; rudmar delivery show prints its state")
		return nil
	}
	return c.showDeployment(cmd, begun.Deployment, !agree.noWait)
}
