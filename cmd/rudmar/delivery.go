package main

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rudmar/server/api"
)

// deliveryCommand changes the delivery of a version in a stage, after it has shown the impact.
func deliveryCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "delivery",
		Short: "Request, approve, reject, override, advance or roll back deliveries"}
	for _, act := range deliveryActions {
		cmd.AddCommand(deliveryActCommand(act))
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

// deliveryAction is one action of deliveryCommand.
type deliveryAction struct {
	name, short string
	// question asks for consent; it is followed by the version and the stage.
	question string
	// shows means that the action has an impact, which is shown first; shown means that the server requires its
	// digest too.
	shows, shown bool
	// waits means that the action starts or continues a delivery; expected are its regular ends besides settled.
	waits    bool
	expected []api.DeliveryState
}

var deliveryActions = []deliveryAction{
	{name: "request", short: "Request the delivery of a version to a stage", question: "Request the delivery of", shows: true,
		shown: true, waits: true},
	{name: "approve", short: "Approve a version in a stage", question: "Approve", shows: true, shown: true, waits: true},
	{name: "withdraw", short: "Withdraw your approval while the version is waiting", question: "Withdraw your approval of"},
	{name: "override", short: "Override one gate of a version with a reason", question: "Override the gate for", shows: true,
		shown: true, waits: true},
	{name: "reject", short: "Reject a version in a stage", question: "Reject",
		expected: []api.DeliveryState{api.DeliveryStateRejected}},
	{name: "retry", short: "Retry a failed delivery with a new plan", question: "Retry the delivery of", shows: true, waits: true},
	{name: "request-remaining", short: "Request the remaining functions of a partially delivered version",
		question: "Request the remaining functions of", shows: true, shown: true, waits: true},
	{name: "rollback", short: "Roll a stage back to an earlier version", question: "Roll back to", shows: true, shown: true,
		waits: true},
	{name: "pause", short: "Pause a traffic shift at its current share", question: "Pause the traffic shift of"},
	{name: "resume", short: "Resume a paused traffic shift", question: "Resume the traffic shift of"},
	{name: "advance", short: "Advance a traffic shift to its next step now", question: "Advance the traffic shift of"},
	{name: "abort", short: "Roll back a traffic shift now", question: "Roll back", shows: true, waits: true,
		expected: []api.DeliveryState{api.DeliveryStateRolledBack}},
}

func deliveryActCommand(act deliveryAction) *cobra.Command {
	c := &config{}
	var comment, confirm, gate, at string
	var only []string
	var agree consent
	cmd := &cobra.Command{
		Use: act.name + " SERVICE VERSION STAGE", Short: act.short, Args: cobra.ExactArgs(3), PreRunE: environment,
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
			if act.name == "request-remaining" {
				query.Set("rest", "true")
			}
			digest := ""
			if act.shows {
				means, err := c.deliveryImpact(cmd, act, args, query)
				if err != nil {
					return err
				}
				digest = means.Digest
				if act.shown {
					wish.ImpactDigest = &digest
				}
				if means.Confirm != nil && act.shown {
					typed, err := confirmed(cmd, confirm, args[2])
					if err != nil {
						return errors.Join(err, errors.New(*means.Confirm))
					}
					wish.Confirm = &typed
				}
			}
			if wish.Confirm == nil || len(agree.digests) > 0 { // the typed name is a consent, but not to another change
				if err := agree.ask(cmd, fmt.Sprintf("%s version %s in %s?", act.question, args[1], args[2]), digest); err != nil {
					return err
				}
			}
			if err := c.ask(cmd.Context(), http.MethodPost, path+"/"+act.name, wish, nil); err != nil {
				return err
			}
			return c.followDelivery(cmd, args, act.waits && !agree.noWait, act.expected...)
		},
	}
	c.clientFlags(cmd.Flags())
	agree.flags(cmd, act.shows)
	cmd.Flags().StringVar(&comment, "comment", "", "reason")
	if act.name == "request" {
		cmd.Flags().StringVar(&at, "at", "", `earliest time of entry: 22:00, or "2026-11-27 06:30", in this machine's time zone`)
		cmd.Flags().StringSliceVar(&only, "only", nil, "functions of the version to deliver, if the stage allows it")
	}
	if act.name == "override" {
		cmd.Flags().StringVar(&gate, "gate", "", "name of the gate, as printed by rudmar delivery show")
	}
	if act.shown {
		cmd.Flags().StringVar(&confirm, "confirm", "",
			"name of the stage, to confirm a deletion or a new public route without a prompt")
	}
	return cmd
}

// deliveryImpact prints and returns the impact of an action: of its version, or of the previous version if the
// action restores that.
func (c *config) deliveryImpact(cmd *cobra.Command, act deliveryAction, args []string,
	query url.Values) (api.Impact, error) {
	var means api.Impact
	path, err := deliveryPath(args)
	if err != nil {
		return means, err
	}
	if act.name == "abort" {
		var d api.DeliveryStage
		if err := c.ask(cmd.Context(), http.MethodGet, path, nil, &d); err != nil {
			return means, err
		}
		if d.Shift == nil || !d.Shift.Active {
			return means, fmt.Errorf("version %s has no active traffic shift in %s", args[1], args[2])
		}
		fmt.Fprintf(cmd.OutOrStdout(), "All invocations return to version %d at once.\n", d.Shift.Before)
		path, err = deliveryPath([]string{args[0], strconv.Itoa(d.Shift.Before), args[2]})
		if err != nil {
			return means, err
		}
	}
	if err := c.ask(cmd.Context(), http.MethodGet, path+"/impact?"+query.Encode(), nil, &means); err != nil {
		return means, err
	}
	printImpact(cmd.OutOrStdout(), args[2], means)
	return means, nil
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

// printImpact prints what a version would change in a stage, target by target: each changed value, then its
// impact, most severe first.
func printImpact(out io.Writer, stage string, means api.Impact) {
	fmt.Fprintf(out, "Changes in %s:\n", stage)
	if len(means.Lines) == 0 {
		fmt.Fprintln(out, "  no changes")
	}
	for i, t := range means.Targets {
		if len(means.Lines) > 0 {
			fmt.Fprintln(out, "  "+t.Sentence)
		}
		same := i > 0 && slices.Equal(t.Changes, means.Targets[i-1].Changes) &&
			slices.EqualFunc(t.Impact, means.Targets[i-1].Impact, func(a, b api.ImpactLine) bool { return a.Text == b.Text })
		if same && len(t.Changes)+len(t.Impact) > 0 {
			fmt.Fprintf(out, "    same as on %s\n", means.Targets[i-1].Target)
		} else {
			printChanges(out, "    ", t.Changes, t.Impact)
		}
		for _, p := range t.Blockers {
			fmt.Fprintf(out, "    blocker: %s\n", p.Message)
		}
	}
	fmt.Fprintf(out, "  digest %s\n", means.Digest)
}

func printChanges(out io.Writer, indent string, changes []string, impact []api.ImpactLine) {
	for _, line := range changes {
		fmt.Fprintf(out, "%s%s\n", indent, line)
	}
	if len(impact) > 0 {
		fmt.Fprintf(out, "%simpact:\n", indent)
	}
	for _, line := range impact {
		fmt.Fprintf(out, "%s  %s: %s\n", indent, strings.ReplaceAll(line.Kind, "-", " "), line.Text)
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
			fmt.Fprintln(cmd.OutOrStdout(), deliveryText(args, d))
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
