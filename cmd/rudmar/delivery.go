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

// deliveryCommand does something with a version in a stage, after it has shown
// what that means.
func deliveryCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "delivery",
		Short: "Ask for a version in a stage, approve it, refuse it, steer its shift, or take it back"}
	for _, act := range []struct{ name, action, short string }{
		{"ask", "request", "Ask for a version in a stage that is entered on request"},
		{"approve", "approve", "Say yes to what a version means in a stage"},
		{"withdraw", "withdraw", "Take your approval of a version back, while it waits"},
		{"pass-over", "pass-over", "Let a version in without one of its gates: --gate and --comment say which and why"},
		{"refuse", "refuse", "Say no to a version in a stage"},
		{"go-on", "retry", "Plan and deploy a version again that stopped"},
		{"follow", "follow", "Ask for the rest of a version that came in with chosen functions alone"},
		{"take-back", "return", "Put a stage back to a version that was there before"},
		{"hold", "hold", "Hold a shift at the share that it has"},
		{"release", "release", "Let a shift that is held go on by itself"},
		{"further", "further", "Let a shift take its next step now"},
		{"back", "back", "Take a version that shifts back now"},
	} {
		cmd.AddCommand(deliveryActCommand(act.name, act.action, act.short))
	}
	cmd.AddCommand(deliveryShowCommand())
	return cmd
}

func deliveryPath(args []string) (string, error) {
	version, err := strconv.Atoi(args[1])
	if err != nil || version < 1 {
		return "", coded{exitUsage, fmt.Errorf("%q is not the number of a version", args[1])}
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
			wish := api.DeliveryWish{Comment: &comment, Gate: api.Optional(gate)}
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
			if action == "follow" {
				query.Set("rest", "true")
			}
			if slices.Contains([]string{"request", "approve", "return", "pass-over", "follow"}, action) {
				var means api.Meaning
				if err := c.ask(cmd.Context(), http.MethodGet, path+"/meaning?"+query.Encode(), nil, &means); err != nil {
					return err
				}
				tellMeaning(cmd.OutOrStdout(), args[2], means)
				wish.Shown = &means.Digest
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
	cmd.Flags().StringVar(&comment, "comment", "", "why")
	if action == "request" {
		cmd.Flags().StringVar(&at, "at", "", `from when on it may enter: 22:00, or "2026-11-27 06:30", in this machine's time`)
		cmd.Flags().StringSliceVar(&only, "only", nil, "functions of the version, where the stage's rules allow a choice")
	}
	if action == "pass-over" {
		cmd.Flags().StringVar(&gate, "gate", "", "the name of the gate, as rudmar delivery show has it")
	}
	cmd.Flags().StringVar(&confirm, "confirm", "",
		"the stage's name, where something is deleted or becomes public and nobody can be asked")
	return cmd
}

// timeOf reads a time that is to come: of day, the next one, or with a date; where no zone
// is said, in that of now.
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

// tellMeaning says what a version would change in a stage, target by target, and what that
// means, worst first; not each step, as nobody decides by digests.
func tellMeaning(out io.Writer, stage string, means api.Meaning) {
	fmt.Fprintf(out, "What it means in %s:\n", stage)
	if len(means.Lines) == 0 {
		fmt.Fprintln(out, "  nothing changes")
	}
	for i, t := range means.Targets {
		if len(means.Lines) > 0 {
			fmt.Fprintln(out, "  "+t.Sentence)
		}
		same := i > 0 && slices.EqualFunc(t.Says, means.Targets[i-1].Says,
			func(a, b api.PlanLine) bool { return a.Text == b.Text })
		if same && len(t.Says) > 0 {
			fmt.Fprintf(out, "    as on %s\n", means.Targets[i-1].Target)
		} else {
			for _, line := range t.Says {
				fmt.Fprintf(out, "    %s: %s\n", line.Kind, line.Text)
			}
		}
		for _, p := range t.Problems {
			fmt.Fprintf(out, "    stops it: %s\n", p.Message)
		}
	}
}

func deliveryShowCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "show SERVICE VERSION STAGE", Short: "Show how a version stands in a stage, and what its gates wait for",
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
			why := d.Place.Why + api.OrZero(d.Place.KeptOut) // of what waits there is only the latter
			if why != "" {
				why = ": " + why
			}
			fmt.Fprintf(cmd.OutOrStdout(), "version %s is %s in %s%s\n", args[1], d.Place.State, args[2], why)
			if d.Place.Only != nil {
				fmt.Fprintf(cmd.OutOrStdout(), "  only %s; without %s\n", strings.Join(*d.Place.Only, ", "),
					strings.Join(api.OrZero(d.LeftOut), ", "))
			}
			for _, g := range d.Gates {
				fmt.Fprintf(cmd.OutOrStdout(), "  %s: %s (%s)\n", g.State, g.Why, g.Name)
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}
