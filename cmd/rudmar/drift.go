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
	c := &config{}
	var format string
	var at about
	cmd := &cobra.Command{
		Use:   "drift [SERVICE [STAGE]]",
		Short: "Show what is live otherwise than it was put there",
		Long: `Shows what the last look found live otherwise than recorded: each attribute, since
when, and how often the function was called and failed since. What somebody left
with a reason is shown, and does not count.

Exit codes: 0 nothing waits for somebody, 4 something does.`,
		Args: cobra.MaximumNArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := at.read(args, true); err != nil {
				return err
			}
			path := "/services/" + url.PathEscape(at.service) + "/drift"
			if at.stage != "" {
				path += "?stage=" + url.QueryEscape(at.stage)
			}
			found := []api.DriftAt{}
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
					fmt.Fprintln(cmd.OutOrStdout(), "Everything that is live is as it was put there.")
				}
			default:
				return coded{exitUsage, fmt.Errorf("there is no format %q; there are text and json", format)}
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
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	cmd.AddCommand(leaveCommand())
	return cmd
}

func printDrift(cmd *cobra.Command, at api.DriftAt) {
	out, d := cmd.OutOrStdout(), at.Drift
	since := time.UnixMilli(api.OrZero(d.Since)).Format("2 Jan 15:04")
	what := "was changed by hand"
	switch {
	case api.OrZero(d.Vanished):
		what = "is gone"
	case api.OrZero(d.Unknown):
		what = "is not Rudmar's own"
	}
	if follows := api.OrZero(d.Follows); follows != "" {
		what += ", as follows from " + follows
	}
	fmt.Fprintf(out, "%s on %s: %s %s, seen since %s; %s since, %d failed\n", at.Stage, d.Target, d.Address, what,
		since, language.FormatCount(at.Calls, "call"), at.Errors)
	if by := api.OrZero(d.By); by != "" {
		fmt.Fprintf(out, "  changed %s by the request %s\n", time.UnixMilli(api.OrZero(d.Changed)).Format("2 Jan 15:04:05"), by)
	}
	for _, a := range d.Attributes {
		unit := api.OrZero(a.Unit)
		fmt.Fprintf(out, "  %s: %s → live: %s%s\n", a.Name, plan.Value(a.Recorded, unit), plan.Value(a.Live, unit), leftWords(a.Left))
	}
	if d.Left != nil {
		fmt.Fprintf(out, " %s\n", leftWords(d.Left))
	}
}

func leftWords(l *api.DriftLeft) string {
	if l == nil {
		return ""
	}
	until := ""
	if l.Until != nil && *l.Until > 0 {
		until = " until " + time.UnixMilli(*l.Until).Format("2 Jan 2006")
	}
	return fmt.Sprintf(" (left by %s%s: %s)", l.Person, until, l.Reason)
}

func leaveCommand() *cobra.Command {
	c := &config{}
	var attribute, reason, until, target string
	var end bool
	cmd := &cobra.Command{
		Use:   "leave SERVICE STAGE ADDRESS",
		Short: "Leave something as it was changed by hand, with a reason",
		Long: `Leaves what is live now as it is: it is shown, and no longer waits for somebody,
until the day of --until or, without one, for good. Another change is drift again.
With --end it is no longer left.`,
		Args: cobra.ExactArgs(3), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if target == "" {
				targets, err := c.targets(ctx, args[0], args[1], "")
				if err != nil {
					return err
				}
				if len(targets) != 1 {
					return coded{exitUsage, fmt.Errorf("%s has several targets; name one with --target", args[1])}
				}
				target = targets[0]
			}
			place := api.DriftPlace{Stage: args[1], Target: target, Address: args[2], Attribute: api.Optional(attribute)}
			if end {
				return c.ask(ctx, http.MethodPost, "/services/"+args[0]+"/drift/not-left", place, nil)
			}
			if reason == "" {
				return coded{exitUsage, errors.New("say why with --reason")}
			}
			wish := api.LeaveWish{Place: place, Reason: reason}
			if until != "" {
				day, err := time.ParseInLocation(time.DateOnly, until, time.Local)
				if err != nil {
					return coded{exitUsage, fmt.Errorf("%q is no day; write it as 2026-12-24", until)}
				}
				wish.Until = api.Optional(day.UnixMilli())
			}
			return c.ask(ctx, http.MethodPost, "/services/"+args[0]+"/drift/left", wish, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&attribute, "attribute", "", "which attribute; without it that the resource is there or is gone")
	cmd.Flags().StringVar(&reason, "reason", "", "why it is left")
	cmd.Flags().StringVar(&until, "until", "", "the day until which it is left, as 2026-12-24")
	cmd.Flags().StringVar(&target, "target", "", "the target, where the stage has several")
	cmd.Flags().BoolVar(&end, "end", false, "leave it no more")
	return cmd
}
