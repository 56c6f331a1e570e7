package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"rudmar/core/language"
	"rudmar/server/api"
)

func outputCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "output", Short: "List the outputs of a stage"}
	cmd.AddCommand(outputListCommand())
	return cmd
}

func outputListCommand() *cobra.Command {
	c := &config{}
	var format, file string
	var at about
	cmd := &cobra.Command{
		Use:   "list [SERVICE STAGE]",
		Short: "Show the outputs of a stage: addresses to call, identities, log stores",
		Long: `Shows the outputs of a stage. --format env prints one line NAME=value for each, for a
shell; the name consists of target, kind, function and name in upper case, such as
LOCAL_NORTH_ROUTE_WARN_ASK. --file writes a file for another program, such as the next
job of a CI system: the complete file or none.`,
		Args: cobra.MaximumNArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := at.read(args, false); err != nil {
				return err
			}
			var got []api.StageOutput
			if err := c.ask(cmd.Context(), http.MethodGet,
				"/services/"+url.PathEscape(at.service)+"/outputs?stage="+url.QueryEscape(at.stage), nil, &got); err != nil {
				return err
			}
			if file == "" {
				return writeOutputs(cmd.OutOrStdout(), format, got)
			}
			var text bytes.Buffer
			if err := writeOutputs(&text, format, got); err != nil {
				return err
			}
			if err := renameio.WriteFile(file, text.Bytes(), 0o644); err != nil {
				return fmt.Errorf("writing the outputs: %w", err)
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	at.flag(cmd)
	cmd.Flags().StringVar(&file, "file", "", "file to write (default standard output)")
	cmd.Flags().StringVar(&format, "format", "text", "output format: text, json or env")
	return cmd
}

// writeOutputs writes the outputs of a stage in a format.
func writeOutputs(to io.Writer, format string, got []api.StageOutput) error {
	switch format {
	case "json":
		return printJSON(to, got)
	case "env":
		for _, o := range got {
			fmt.Fprintf(to, "%s=%s\n", variable(o), quotedForShell(o.Value))
		}
		return nil
	case "text":
		table := tabwriter.NewWriter(to, 0, 4, 2, ' ', 0)
		for _, o := range got {
			fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\n", o.Target, o.Function, o.Name, o.Value, api.OrZero(o.Note))
		}
		return table.Flush()
	}
	return coded{exitUsage, fmt.Errorf("unknown format %q (expected text, json or env)", format)}
}

// variable names an output as shells name variables.
func variable(o api.StageOutput) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToUpper(o.Target+"/"+o.Address))
}

// quotedForShell quotes a value for a POSIX shell.
func quotedForShell(value string) string { return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'" }

func deploymentCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "deployment", Short: "List, show, retry and cancel deployments"}
	cmd.AddCommand(deploymentListCommand(), deploymentShowCommand(),
		deploymentActionCommand("retry", "Run the remaining steps of a failed deployment"),
		deploymentActionCommand("cancel", "Cancel a deployment after its running steps"))
	return cmd
}

func deploymentListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list SERVICE", Short: "List the newest deployments of a service", Args: cobra.ExactArgs(1),
		PreRunE: environment,
		RunE:    func(cmd *cobra.Command, args []string) error { return c.listDeployments(cmd, args[0]) },
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func deploymentShowCommand() *cobra.Command {
	c := &config{}
	var follow bool
	cmd := &cobra.Command{
		Use: "show [SERVICE] NUMBER", Short: "Show the steps of a deployment",
		Long: `Shows the steps of a deployment. --follow waits for its end and prints each step.

Exit codes: 0, or 4 if the deployment ended without success.`,
		Args: cobra.RangeArgs(1, 2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := deploymentNumber(args[len(args)-1])
			if err != nil {
				return err
			}
			if len(args) == 2 {
				var got api.DeploymentDetail
				if err := c.ask(cmd.Context(), http.MethodGet, fmt.Sprintf("/deployments/%d", id), nil, &got); err != nil {
					return err
				}
				if of := got.Deployment.Service; of != args[0] {
					return fmt.Errorf("deployment %d belongs to %s, not %s", id, of, args[0])
				}
			}
			return c.showDeployment(cmd, id, follow)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().BoolVar(&follow, "follow", false, "wait for the end and print each step")
	return cmd
}

func deploymentActionCommand(action, short string) *cobra.Command {
	c := &config{}
	var agree consent
	cmd := &cobra.Command{
		Use: action + " NUMBER", Short: short, Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := deploymentNumber(args[0])
			if err != nil {
				return err
			}
			if err := c.showRemaining(cmd, id); err != nil {
				return err
			}
			question := fmt.Sprintf("%s deployment %d?", strings.ToUpper(action[:1])+action[1:], id)
			if err := agree.ask(cmd, question, ""); err != nil {
				return err
			}
			if err := c.ask(cmd.Context(), http.MethodPost, fmt.Sprintf("/deployments/%d/%s", id, action), nil, nil); err != nil {
				return err
			}
			err = c.showDeployment(cmd, id, !agree.noWait)
			var ended coded
			if action == "cancel" && errors.As(err, &ended) && ended.err == nil {
				return nil // a cancelled deployment is what was asked for
			}
			return err
		},
	}
	c.clientFlags(cmd.Flags())
	agree.flags(cmd, false)
	return cmd
}

// showRemaining prints the steps of a deployment that are not done.
func (c *config) showRemaining(cmd *cobra.Command, id int64) error {
	var got api.DeploymentDetail
	if err := c.ask(cmd.Context(), http.MethodGet, fmt.Sprintf("/deployments/%d", id), nil, &got); err != nil {
		return err
	}
	var remaining []string
	for _, s := range got.Steps {
		if s.State != api.StepStateSucceeded {
			remaining = append(remaining, fmt.Sprintf("  %s %s", s.Change, s.Address))
		}
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Deployment %d of version %d to %s on %s is %s; remaining: %s\n", id,
		got.Deployment.Version, got.Deployment.Stage, got.Deployment.Target, got.Deployment.State,
		language.FormatCount(len(remaining), "step"))
	const most = 20
	for i, line := range remaining {
		if i == most {
			fmt.Fprintf(cmd.OutOrStdout(), "  and %d more\n", len(remaining)-most)
			break
		}
		fmt.Fprintln(cmd.OutOrStdout(), line)
	}
	return nil
}

func deploymentNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, coded{exitUsage, fmt.Errorf("deployment must be a number, not %q", text)}
	}
	return id, nil
}

func (c *config) listDeployments(cmd *cobra.Command, service string) error {
	var list []api.Deployment
	if err := c.ask(cmd.Context(), http.MethodGet, "/services/"+service+"/deployments", nil, &list); err != nil {
		return err
	}
	table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
	for _, d := range list {
		fmt.Fprintf(table, "%d\t%s\t%s\tversion %d\t%s\t%s\t%s\n", d.Id, d.Stage, d.Target, d.Version, d.State,
			time.UnixMilli(d.StartedAt).Format("2 Jan 15:04:05"), d.Reason)
	}
	return table.Flush()
}

// showDeployment prints the steps of a deployment; with follow, as they end.
func (c *config) showDeployment(cmd *cobra.Command, id int64, follow bool) error {
	shown := map[int]api.StepState{}
	for {
		var got api.DeploymentDetail
		if err := c.ask(cmd.Context(), http.MethodGet, fmt.Sprintf("/deployments/%d", id), nil, &got); err != nil {
			return err
		}
		runs := got.Deployment.State == "running"
		for _, s := range got.Steps {
			ended := s.State == api.StepStateSucceeded || s.State == api.StepStateFailed
			if shown[s.Index] != s.State && (ended || !runs || !follow) {
				shown[s.Index] = s.State
				line := fmt.Sprintf("%-9s %-8s %s %s", s.State, s.Change, s.Address, s.Error)
				fmt.Fprintln(cmd.OutOrStdout(), strings.TrimSpace(line))
			}
		}
		if runs && follow {
			select {
			case <-cmd.Context().Done():
				return cmd.Context().Err()
			case <-time.After(300 * time.Millisecond):
			}
			continue
		}
		fmt.Fprintf(cmd.OutOrStdout(), "deployment %d of version %d to %s on %s: %s %s\n", id, got.Deployment.Version,
			got.Deployment.Stage, got.Deployment.Target, got.Deployment.State, got.Deployment.Reason)
		if !runs && got.Deployment.State != api.DeploymentStateSucceeded {
			return coded{exitChanges, nil}
		}
		return nil
	}
}
