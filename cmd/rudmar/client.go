package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/core/canon"
	"rudmar/core/language"
	"rudmar/server/api"
)

// ask asks Rudmar's API as the person of the flags.
func (c *config) ask(ctx context.Context, method, path string, body, out any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, method, c.server+"/api"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	password, err := c.password()
	if err != nil {
		return err
	}
	r.SetBasicAuth(c.handle, password)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	} else {
		r.Body, r.ContentLength = nil, 0
	}
	return answer(r, out)
}

func planCommand() *cobra.Command {
	c := &config{}
	var version int
	var target, format string
	cmd := &cobra.Command{
		Use:   "plan SERVICE STAGE",
		Short: "Show what a version would change in a stage, against what is there now",
		Long: `Makes a plan on the server for each target of the stage and shows it: what it
means, and each step with its values and its reason, in the order in which it
would run. Without --version it is the version that is there, so that the plan
shows what was changed by hand.

Exit codes: 0 there is nothing to do, 4 something would change, 5 something stops
a plan.`,
		Args: cobra.ExactArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			targets, err := c.targets(cmd.Context(), args[0], args[1], target)
			if err != nil {
				return err
			}
			var plans []api.KeptPlan
			for _, t := range targets {
				wish := api.PlanWish{Stage: args[1], Target: &t}
				if version > 0 {
					wish.Version = &version
				}
				var kept api.KeptPlan
				if err := c.ask(cmd.Context(), http.MethodPost, "/services/"+args[0]+"/plans", wish, &kept); err != nil {
					return err
				}
				plans = append(plans, kept)
			}
			if format == "json" {
				encoder := json.NewEncoder(cmd.OutOrStdout())
				encoder.SetIndent("", "  ")
				err = encoder.Encode(plans)
			} else {
				for _, kept := range plans {
					err = errors.Join(err, printPlan(cmd, kept))
				}
			}
			if err != nil {
				return err
			}
			return outcome(plans)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().IntVar(&version, "version", 0, "the version to plan for")
	cmd.Flags().StringVar(&target, "target", "", "one target alone, where the stage has several")
	cmd.Flags().StringVar(&format, "format", "text", "text or json (a list of plans, one a target)")
	return cmd
}

// targets gives the targets of a stage, or the one that is asked for.
func (c *config) targets(ctx context.Context, service, stage, only string) ([]string, error) {
	if only != "" {
		return []string{only}, nil
	}
	var line api.Line
	if err := c.ask(ctx, http.MethodGet, "/services/"+service+"/line", nil, &line); err != nil {
		return nil, err
	}
	var names []string
	for _, s := range line.Stages {
		if s.Stage == stage {
			return s.Targets, nil
		}
		names = append(names, s.Stage)
	}
	return nil, coded{exitUsage, fmt.Errorf("%s has no stage %q; it has %s", service, stage, strings.Join(names, ", "))}
}

// outcome gives the exit code that plans end with.
func outcome(plans []api.KeptPlan) error {
	code := 0
	for _, kept := range plans {
		switch {
		case len(kept.Plan.Problems) > 0:
			code = exitStopped
		case len(kept.Plan.Steps) > 0:
			code = max(code, exitChanges)
		}
	}
	if code == 0 {
		return nil
	}
	return coded{code, nil}
}

func printPlan(cmd *cobra.Command, kept api.KeptPlan) error {
	p, out := kept.Plan, cmd.OutOrStdout()
	fmt.Fprintf(out, "Plan %d: version %d onto %s (%s), where version %d is now: %d steps in %d waves\n\n", kept.Id,
		p.Base.Version, p.Base.Stage, p.Base.Target, p.Base.From, len(p.Steps), p.Waves)
	for _, line := range meansLines(p.Base.Stage, p.Consequences) {
		fmt.Fprintln(out, line)
	}
	table := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	slices.SortStableFunc(p.Steps, func(a, b api.Step) int { return a.Wave - b.Wave })
	for _, s := range p.Steps {
		var because []string
		for _, cause := range s.Because {
			text := cause.Text
			if cause.From != nil && cause.From.File != nil && cause.From.Line != nil {
				text += fmt.Sprintf(" (%s:%d)", *cause.From.File, *cause.From.Line)
			}
			because = append(because, text)
		}
		fmt.Fprintf(table, "%d\t%s\t%s\t%s\n", s.Wave+1, s.Change, s.Address, strings.Join(because, "; "))
		for _, a := range s.Attributes {
			fmt.Fprintf(table, "\t\t  %s\t%s → %s\n", a.Name, shownValue(a.Before, a.Unit), shownValue(a.After, a.Unit))
		}
	}
	if err := table.Flush(); err != nil {
		return err
	}
	for _, problem := range p.Problems {
		fmt.Fprintln(out, "stops it:", problem.Message)
	}
	fmt.Fprintln(out, kept.Runnable.Why)
	return nil
}

// shownValue gives a value as manifests write it; "absent" for none.
func shownValue(v any, unit *string) string {
	number, isNumber := v.(float64)
	switch {
	case v == nil:
		return "absent"
	case isNumber && unit != nil && *unit == "bytes":
		return language.FormatSize(int64(number))
	case isNumber && unit != nil && *unit == "ms":
		return language.FormatTime(time.Duration(number * float64(time.Millisecond)))
	}
	return canon.Text(v)
}

// meansLines says what a plan means, worst first.
func meansLines(stage string, c api.Consequences) []string {
	var out []string
	add := func(kind, format string, args ...any) { out = append(out, kind+": "+fmt.Sprintf(format, args...)) }
	for _, r := range c.Rules {
		kind := "rules"
		if r.Loosens != nil && *r.Loosens {
			kind = "loosens"
		}
		add(kind, "%s, %s: %s → %s", stage, r.Rule, r.Before, r.After)
	}
	for _, r := range c.Removed {
		add("lost", "%s", r)
	}
	for _, o := range c.Opened {
		kind := "opened"
		if o.Public {
			kind = "public"
		}
		add(kind, "%s opens to %s, such as %s", o.Route, o.After, o.Request)
	}
	for _, g := range c.Gained {
		add("reach", "%s may newly %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource)
	}
	for _, g := range c.Lost {
		add("reach", "%s may no longer %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource)
	}
	if len(c.Cold) > 0 {
		add("cold", "the next call starts cold: %s", strings.Join(c.Cold, ", "))
	}
	if len(out) > 0 {
		out = append(out, "")
	}
	return out
}
