package main

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"rudmar/core/language"
	"rudmar/core/plan"
	"rudmar/server/api"
)

func driftCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "drift", Short: "List and ignore differences between actual and recorded state"}
	cmd.AddCommand(driftListCommand(), ignoreCommand())
	return cmd
}

func driftListCommand() *cobra.Command {
	c := &config{}
	var format string
	var at about
	cmd := &cobra.Command{
		Use:   "list [SERVICE [STAGE]]",
		Short: "List differences between actual and recorded state",
		Long: `Shows the drift found by the last check: each attribute, the time of detection, and the
invocations and failures of the function since then. Ignored drift is shown with its
reason and does not count.

Exit codes: 0 no drift needs attention, 4 there is drift.`,
		Args: cobra.MaximumNArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := at.read(args, true); err != nil {
				return err
			}
			path := "/services/" + url.PathEscape(at.service) + "/drift"
			if at.stage != "" {
				path += "?stage=" + url.QueryEscape(at.stage)
			}
			found := []api.DriftEntry{}
			if err := c.ask(cmd.Context(), http.MethodGet, path, nil, &found); err != nil {
				return err
			}
			switch format {
			case "json":
				if err := printJSON(cmd.OutOrStdout(), found); err != nil {
					return err
				}
			case "text":
				for _, at := range found {
					printDrift(cmd, at)
				}
				if len(found) == 0 {
					fmt.Fprintln(cmd.OutOrStdout(), "No drift: the actual state matches the record.")
				}
			default:
				return coded{exitUsage, fmt.Errorf("unknown format %q (expected text or json)", format)}
			}
			for _, at := range found {
				if at.Open {
					return coded{exitChanges, nil}
				}
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	at.flag(cmd)
	cmd.Flags().StringVar(&format, "format", "text", "output format: text or json")
	return cmd
}

func printDrift(cmd *cobra.Command, at api.DriftEntry) {
	out, d := cmd.OutOrStdout(), at.Drift
	since := time.UnixMilli(api.OrZero(d.Since)).Format("2 Jan 15:04")
	what := "was changed outside Rudmar"
	switch {
	case api.OrZero(d.Vanished):
		what = "was deleted outside Rudmar"
	case api.OrZero(d.Unknown):
		what = "is an unmanaged resource"
	}
	if follows := api.OrZero(d.Follows); follows != "" {
		what += ", caused by " + follows
	}
	fmt.Fprintf(out, "%s on %s: %s %s, detected %s; %s since, %d failed\n", at.Stage, d.Target, d.Address, what,
		since, language.FormatCount(at.Invocations, "invocation"), at.Errors)
	if by := api.OrZero(d.By); by != "" {
		fmt.Fprintf(out, "  changed %s by request %s\n", time.UnixMilli(api.OrZero(d.Changed)).Format("2 Jan 15:04:05"), by)
	}
	for _, a := range d.Attributes {
		unit := api.OrZero(a.Unit)
		fmt.Fprintf(out, "  %s: recorded %s → actual %s%s\n", a.Name, plan.Value(a.Recorded, unit), plan.Value(a.Actual, unit), ignoredText(a.Ignored))
	}
	if d.Ignored != nil {
		fmt.Fprintf(out, " %s\n", ignoredText(d.Ignored))
	}
}

func ignoredText(l *api.IgnoredDrift) string {
	if l == nil {
		return ""
	}
	until := ""
	if l.Until != nil && *l.Until > 0 {
		until = " until " + time.UnixMilli(*l.Until).Format("2 Jan 2006")
	}
	return fmt.Sprintf(" (ignored by %s%s: %s)", l.Person, until, l.Reason)
}

func ignoreCommand() *cobra.Command {
	c := &config{}
	var attribute, reason, until, target string
	var end bool
	cmd := &cobra.Command{
		Use:   "ignore SERVICE STAGE ADDRESS",
		Short: "Ignore a drift, with a reason",
		Long: `Keeps the actual state: the drift is shown but no longer needs attention, until the day
of --until (default forever). A further change is drift again. --end stops ignoring.`,
		Args: cobra.ExactArgs(3), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if target == "" {
				targets, err := c.targets(ctx, args[0], args[1], "")
				if err != nil {
					return err
				}
				if len(targets) != 1 {
					return coded{exitUsage, fmt.Errorf("%s has several targets; set --target", args[1])}
				}
				target = targets[0]
			}
			place := api.DriftLocation{Stage: args[1], Target: target, Address: args[2], Attribute: api.Optional(attribute)}
			if end {
				return c.ask(ctx, http.MethodPost, "/services/"+args[0]+"/drift/unignored", place, nil)
			}
			if reason == "" {
				return coded{exitUsage, errors.New("--reason is required")}
			}
			wish := api.IgnoreRequest{Place: place, Reason: reason}
			if until != "" {
				day, err := time.ParseInLocation(time.DateOnly, until, time.Local)
				if err != nil {
					return coded{exitUsage, fmt.Errorf("%q is not a date; write 2026-12-24", until)}
				}
				wish.Until = api.Optional(day.UnixMilli())
			}
			return c.ask(ctx, http.MethodPost, "/services/"+args[0]+"/drift/ignored", wish, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&attribute, "attribute", "", "attribute to ignore (default the existence of the resource)")
	cmd.Flags().StringVar(&reason, "reason", "", "reason to ignore the drift")
	cmd.Flags().StringVar(&until, "until", "", "last day of ignoring, such as 2026-12-24 (default forever)")
	cmd.Flags().StringVar(&target, "target", "", "target, if the stage has several")
	cmd.Flags().BoolVar(&end, "end", false, "stop ignoring the drift")
	return cmd
}
