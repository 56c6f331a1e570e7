package main

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rudmar/server/api"
)

// deliveryCommand changes the delivery of a version in a stage, after it has shown the impact.
func deliveryCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "delivery",
		Short: "Request, approve, reject, override, advance or roll back deliveries"}
	for _, act := range []struct{ name, action, short string }{
		{"request", "request", "Request the delivery of a version to a stage"},
		{"approve", "approve", "Approve a version in a stage"},
		{"withdraw", "withdraw", "Withdraw your approval while the version is waiting"},
		{"override", "override", "Override one gate of a version with a reason"},
		{"reject", "reject", "Reject a version in a stage"},
		{"retry", "retry", "Retry a failed delivery with a new plan"},
		{"request-remaining", "request-remaining", "Request the remaining functions of a partially delivered version"},
		{"rollback", "rollback", "Roll a stage back to an earlier version"},
		{"pause", "pause", "Pause a traffic shift at its current share"},
		{"resume", "resume", "Resume a paused traffic shift"},
		{"advance", "advance", "Advance a traffic shift to its next step now"},
		{"abort", "abort", "Roll back a traffic shift now"},
	} {
		cmd.AddCommand(deliveryActCommand(act.name, act.action, act.short))
	}
	cmd.AddCommand(deliveryShowCommand())
	return cmd
}

func deliveryPath(args []string) (string, error) {
	version, err := versionNumber(args[1])
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("/services/%s/deliveries/%d/stages/%s", args[0], version, args[2]), nil
}

func deliveryActCommand(name, action, short string) *cobra.Command {
	c := &config{}
	var comment, confirm, gate, at string
	var only []string
	cmd := &cobra.Command{
		Use: name + " SERVICE VERSION STAGE", Short: short, Args: cobra.ExactArgs(3), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			path, err := deliveryPath(args)
			if err != nil {
				return err
			}
			wish := api.DeliveryDecision{Comment: &comment, Gate: api.Optional(gate)}
			if at != "" {
				when, err := timeOf(at, time.Now())
				if err != nil {
					return coded{exitUsage, err}
				}
				wish.At = api.Optional(when.UnixMilli())
			}
			query := url.Values{}
			if len(only) > 0 {
				wish.Functions, query["functions"] = &only, only
			}
			if action == "request-remaining" {
				query.Set("rest", "true")
			}
			if slices.Contains([]string{"request", "approve", "rollback", "override", "request-remaining"}, action) {
				var means api.Impact
				if err := c.ask(cmd.Context(), http.MethodGet, path+"/impact?"+query.Encode(), nil, &means); err != nil {
					return err
				}
				printImpact(cmd.OutOrStdout(), args[2], means)
				wish.ImpactDigest = &means.Digest
				if means.Confirm != nil {
					typed, err := confirmed(cmd, confirm, args[2])
					if err != nil {
						return errors.Join(err, errors.New(*means.Confirm))
					}
					wish.Confirm = &typed
				}
			}
			return c.ask(cmd.Context(), http.MethodPost, path+"/"+action, wish, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&comment, "comment", "", "reason")
	if action == "request" {
		cmd.Flags().StringVar(&at, "at", "", `earliest time of entry: 22:00, or "2026-11-27 06:30", in this machine's time zone`)
		cmd.Flags().StringSliceVar(&only, "only", nil, "functions of the version to deliver, if the stage allows it")
	}
	if action == "override" {
		cmd.Flags().StringVar(&gate, "gate", "", "name of the gate, as printed by rudmar delivery show")
	}
	cmd.Flags().StringVar(&confirm, "confirm", "",
		"name of the stage, to confirm a deletion or a new public route without a prompt")
	return cmd
}

// timeOf parses a future time: a time of day, which is the next one, or a date and time; without a zone, in the
// zone of now.
func timeOf(text string, now time.Time) (time.Time, error) {
	if clock, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		at := time.Date(now.Year(), now.Month(), now.Day(), clock.Hour(), clock.Minute(), 0, 0, now.Location())
		if !at.After(now) {
			at = time.Date(now.Year(), now.Month(), now.Day()+1, clock.Hour(), clock.Minute(), 0, 0, now.Location())
		}
		return at, nil
	}
	for _, form := range []string{"2006-01-02 15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time; write 22:00, or 2026-11-27 06:30", text)
}

// printImpact prints what a version would change in a stage, target by target, and its impact, most severe
// first; not each step, as nobody decides by digests.
func printImpact(out io.Writer, stage string, means api.Impact) {
	fmt.Fprintf(out, "Impact in %s:\n", stage)
	if len(means.Lines) == 0 {
		fmt.Fprintln(out, "  no changes")
	}
	for i, t := range means.Targets {
		if len(means.Lines) > 0 {
			fmt.Fprintln(out, "  "+t.Sentence)
		}
		same := i > 0 && slices.EqualFunc(t.Impact, means.Targets[i-1].Impact,
			func(a, b api.ImpactLine) bool { return a.Text == b.Text })
		if same && len(t.Impact) > 0 {
			fmt.Fprintf(out, "    same as on %s\n", means.Targets[i-1].Target)
		} else {
			for _, line := range t.Impact {
				fmt.Fprintf(out, "    %s: %s\n", line.Kind, line.Text)
			}
		}
		for _, p := range t.Blockers {
			fmt.Fprintf(out, "    blocker: %s\n", p.Message)
		}
	}
}

func deliveryShowCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "show SERVICE VERSION STAGE", Short: "Show the state and the gates of a version in a stage",
		Args: cobra.ExactArgs(3), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			path, err := deliveryPath(args)
			if err != nil {
				return err
			}
			var d api.DeliveryStage
			if err := c.ask(cmd.Context(), http.MethodGet, path, nil, &d); err != nil {
				return err
			}
			why := d.Place.Reason + api.OrZero(d.Place.BlockedBy) // a waiting version has only the latter
			if why != "" {
				why = ": " + why
			}
			fmt.Fprintf(cmd.OutOrStdout(), "version %s is %s in %s%s\n", args[1], d.Place.State, args[2], why)
			if d.Place.Only != nil {
				fmt.Fprintf(cmd.OutOrStdout(), "  only %s; without %s\n", strings.Join(*d.Place.Only, ", "),
					strings.Join(api.OrZero(d.Remaining), ", "))
			}
			for _, g := range d.Gates {
				fmt.Fprintf(cmd.OutOrStdout(), "  %-10s %s: %s\n", g.State, g.Name, g.Reason)
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}
