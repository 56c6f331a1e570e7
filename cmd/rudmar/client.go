package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/engine/people"
	"rudmar/engine/store"
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
		Long: `Makes a plan on the server and shows it: each step with its reason, in the order
in which it would run. Without --version it is the version that is there, so
that the plan shows what was changed by hand.`,
		Args: cobra.ExactArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			wish := api.PlanWish{Stage: args[1]}
			if version > 0 {
				wish.Version = &version
			}
			if target != "" {
				wish.Target = &target
			}
			var kept api.KeptPlan
			if err := c.ask(cmd.Context(), http.MethodPost, "/services/"+args[0]+"/plans", wish, &kept); err != nil {
				return err
			}
			if format == "json" {
				encoder := json.NewEncoder(cmd.OutOrStdout())
				encoder.SetIndent("", "  ")
				return encoder.Encode(kept)
			}
			return printPlan(cmd, kept)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().IntVar(&version, "version", 0, "the version to plan for")
	cmd.Flags().StringVar(&target, "target", "", "the target, where the stage has several")
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	return cmd
}

func printPlan(cmd *cobra.Command, kept api.KeptPlan) error {
	p, out := kept.Plan, cmd.OutOrStdout()
	fmt.Fprintf(out, "Plan %d: version %d onto %s (%s), where version %d is now: %d steps in %d waves\n\n", kept.Id, p.Base.Version, p.Base.Stage, p.Base.Target, p.Base.From, len(p.Steps), p.Waves)
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

func personCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "person", Short: "Say who may use Rudmar"}
	c := &config{}
	var role string
	var groups []string
	add := &cobra.Command{
		Use: "add HANDLE", Short: "Add somebody, or change their role and password; the password is read from RUDMAR_PASSWORD or from standard input",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if role != people.Author && role != people.Approver && role != people.Reader {
				return coded{exitUsage, fmt.Errorf("--role is %s, %s or %s", people.Author, people.Approver, people.Reader)}
			}
			password := os.Getenv("RUDMAR_PASSWORD")
			if password == "" {
				fmt.Fprint(os.Stderr, "password: ")
				line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
				if password = strings.TrimSpace(line); password == "" {
					return fmt.Errorf("no password was given: %w", err)
				}
			}
			s, err := store.Open(cmd.Context(), c.data, time.Now)
			if err != nil {
				return err
			}
			defer s.Close()
			directory, err := people.Open(s, c.data)
			if err != nil {
				return err
			}
			return directory.Add(cmd.Context(), args[0], role, password, groups...)
		},
	}
	c.dataFlag(add.Flags(), "rudmar-data")
	add.Flags().StringVar(&role, "role", people.Author, "author, approver or reader")
	add.Flags().StringSliceVar(&groups, "group", nil, "a group that they belong to; may be given several times")
	cmd.AddCommand(add)
	return cmd
}
