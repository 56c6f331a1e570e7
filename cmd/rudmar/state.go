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

func stateCommand() *cobra.Command {
	c := &config{}
	var format string
	cmd := &cobra.Command{
		Use: "state SERVICE", Short: "Show what is in each stage of a service, and what waits to enter",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			var line api.Line
			if err := c.ask(cmd.Context(), http.MethodGet, "/services/"+url.PathEscape(args[0])+"/line", nil,
				&line); err != nil {
				return err
			}
			if format == "json" {
				return printJSON(cmd.OutOrStdout(), line)
			}
			if format != "text" {
				return coded{exitUsage, fmt.Errorf("there is no format %q; there are text and json", format)}
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
				state := s.State
				if s.Problem != nil {
					state += ": " + *s.Problem
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%d\t%s\n", s.Stage, there, state, s.Drifted, next)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	return cmd
}

func buildsCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "builds SERVICE [NUMBER]", Short: "Show the newest builds of a service, or the log of one",
		Long: `Shows the newest builds, or what one of them wrote.

Exit codes: 0, and for one build 1 where it failed.`,
		Args: cobra.RangeArgs(1, 2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			var list []api.Build
			if err := c.ask(cmd.Context(), http.MethodGet, "/services/"+url.PathEscape(args[0])+"/builds", nil,
				&list); err != nil {
				return err
			}
			if len(args) == 2 {
				return tellBuild(cmd, list, args[1])
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			for _, b := range list {
				became := b.Why
				if b.Version > 0 {
					became = fmt.Sprintf("version %d", b.Version)
				}
				fmt.Fprintf(table, "%d\t%.10s\t%s\t%s\t%s\t%s\n", b.Id, b.Hash, b.Branch, b.Person, b.State, became)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.PersistentFlags())
	cmd.AddCommand(&cobra.Command{Use: "cancel SERVICE NUMBER", Short: "Cancel a build that waits or runs",
		Args: cobra.ExactArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.ask(cmd.Context(), http.MethodDelete,
				"/services/"+url.PathEscape(args[0])+"/builds/"+url.PathEscape(args[1]), nil, nil)
		}})
	return cmd
}

func tellBuild(cmd *cobra.Command, list []api.Build, number string) error {
	for _, b := range list {
		if strconv.FormatInt(b.Id, 10) != number {
			continue
		}
		fmt.Fprint(cmd.OutOrStdout(), b.Log)
		if b.State == "failed" {
			return coded{exitFailed, errors.New(b.Why)}
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
	var follow bool
	cmd := &cobra.Command{
		Use: "deploy [SERVICE STAGE]", Short: "Plan a stage and run the plan, once it was shown",
		Long: `Makes a plan of the version that is there, or of --version, shows it and runs it: it
puts back what was changed by hand, or does what a delivery left undone. A version
that is to enter by the stage's gates is asked for with rudmar delivery ask.

Exit codes: 0 done or nothing to do, 4 it ended without being done, 5 something
stops the plan.`,
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
				wish := api.PlanWish{Stage: at.stage, Target: &t}
				if version > 0 {
					wish.Version = &version
				}
				if err := c.deploy(cmd, at.service, wish, confirm, follow); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	at.flag(cmd)
	cmd.Flags().IntVar(&version, "version", 0, "the version; the one that is there where none is given")
	cmd.Flags().StringVar(&target, "target", "", "one target alone, where the stage has several")
	cmd.Flags().StringVar(&confirm, "confirm", "",
		"the stage's name, where something is deleted or becomes public and nobody can be asked")
	cmd.Flags().BoolVar(&follow, "follow", true, "wait for the end, and tell each step as it ends")
	return cmd
}

// deploy plans one target, shows the plan and runs it.
func (c *config) deploy(cmd *cobra.Command, service string, wish api.PlanWish, confirm string, follow bool) error {
	ctx := cmd.Context()
	var kept api.KeptPlan
	if err := c.ask(ctx, http.MethodPost, "/services/"+url.PathEscape(service)+"/plans", wish, &kept); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Plan %d, %s: %s\n", kept.Id, *wish.Target, kept.Plan.Sentence)
	for _, line := range kept.Plan.Says {
		fmt.Fprintf(cmd.OutOrStdout(), "  %s: %s\n", line.Kind, line.Text)
	}
	switch {
	case len(kept.Plan.Problems) > 0:
		for _, p := range kept.Plan.Problems {
			fmt.Fprintln(cmd.OutOrStdout(), "  stops it: "+p.Message)
		}
		return coded{exitStopped, nil}
	case len(kept.Plan.Steps) == 0:
		return nil
	}
	var run api.RunWish
	if kept.Confirm != nil {
		typed, err := confirmed(cmd, confirm, wish.Stage)
		if err != nil {
			return errors.Join(err, errors.New(*kept.Confirm))
		}
		run.Confirm = &typed
	}
	var begun struct{ Deployment int64 }
	if err := c.ask(ctx, http.MethodPost, fmt.Sprintf("/plans/%d/deployments", kept.Id), run, &begun); err != nil {
		return err
	}
	if begun.Deployment == 0 {
		fmt.Fprintln(cmd.OutOrStdout(), "its delivery goes on with a plan of its own; rudmar delivery show tells how it stands")
		return nil
	}
	return c.showDeployment(cmd, begun.Deployment, follow)
}
