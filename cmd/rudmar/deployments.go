package main

import (
	"bytes"
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

	"rudmar/server/api"
)

func outputsCommand() *cobra.Command {
	c := &config{}
	var format, file string
	var at about
	cmd := &cobra.Command{
		Use:   "outputs [SERVICE STAGE]",
		Short: "Show what a stage gives to others: addresses to call, identities, log stores",
		Long: `Shows what a stage gives to others. With --format env there is a line NAME=value for
each, to be read by a shell: the name is target, kind, function and name, in upper
case, such as LOCAL_NORTH_ROUTE_WARN_ASK. With --file it goes into a file for other
programs, such as the next job of another CI: the whole of it or nothing.`,
		Example: "  rudmar outputs frostline trial --format env\n  rudmar outputs --stage trial --format json",
		Args:    cobra.MaximumNArgs(2), PreRunE: environment,
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
	cmd.Flags().StringVar(&file, "file", "", "the file to write, in place of standard output")
	cmd.Flags().StringVar(&format, "format", "text", "text, json or env")
	return cmd
}

// writeOutputs writes what a stage gives in a format.
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
	return coded{exitUsage, fmt.Errorf("there is no format %q; there are text, json and env", format)}
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

// quotedForShell quotes a value so that a POSIX shell reads just that.
func quotedForShell(value string) string { return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'" }

func deploymentsCommand() *cobra.Command {
	c := &config{}
	var follow bool
	cmd := &cobra.Command{
		Use:   "deployments SERVICE [NUMBER]",
		Short: "Show the newest deployments of a service, or one of them step by step",
		Long: `Shows the newest deployments, or the steps of one. With --follow it waits until that
one has ended, and tells each step as it ends.

Exit codes: 0, and for one deployment 4 where it ended without being done.`,
		Args: cobra.RangeArgs(1, 2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				return c.listDeployments(cmd, args[0])
			}
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return coded{exitUsage, fmt.Errorf("%q is not the number of a deployment", args[1])}
			}
			return c.showDeployment(cmd, id, follow)
		},
	}
	c.clientFlags(cmd.PersistentFlags())
	cmd.Flags().BoolVar(&follow, "follow", false, "wait for its end, and tell each step as it ends")
	for _, act := range []struct{ use, action, short string }{
		{"go-on NUMBER", "go-on", "Run the remaining steps of a deployment that ended without being done"},
		{"cancel NUMBER", "cancel", "Let a deployment finish what is on its way, and stop"}} {
		cmd.AddCommand(&cobra.Command{Use: act.use, Short: act.short, Args: cobra.ExactArgs(1), PreRunE: environment,
			RunE: func(cmd *cobra.Command, args []string) error {
				return c.ask(cmd.Context(), http.MethodPost, "/deployments/"+url.PathEscape(args[0])+"/"+act.action, nil, nil)
			}})
	}
	return cmd
}

func (c *config) listDeployments(cmd *cobra.Command, service string) error {
	var list []api.Deployment
	if err := c.ask(cmd.Context(), http.MethodGet, "/services/"+service+"/deployments", nil, &list); err != nil {
		return err
	}
	table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
	for _, d := range list {
		fmt.Fprintf(table, "%d\t%s\t%s\tversion %d\t%s\t%s\t%s\n", d.Id, d.Stage, d.Target, d.Version, d.State,
			time.UnixMilli(d.StartedAt).Format("2 Jan 15:04:05"), d.Why)
	}
	return table.Flush()
}

// showDeployment tells the steps of a deployment; where it follows, as they end.
func (c *config) showDeployment(cmd *cobra.Command, id int64, follow bool) error {
	told := map[int]string{}
	for {
		var got api.DeploymentDetail
		if err := c.ask(cmd.Context(), http.MethodGet, fmt.Sprintf("/deployments/%d", id), nil, &got); err != nil {
			return err
		}
		runs := got.Deployment.State == "running"
		for _, s := range got.Steps {
			ended := s.State == "done" || s.State == "failed"
			if told[s.Index] != s.State && (ended || !runs || !follow) {
				told[s.Index] = s.State
				line := fmt.Sprintf("%-8s %-8s %s %s", s.State, s.Change, s.Address, s.Error)
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
		fmt.Fprintf(cmd.OutOrStdout(), "deployment %d of version %d onto %s on %s: %s %s\n", id, got.Deployment.Version,
			got.Deployment.Stage, got.Deployment.Target, got.Deployment.State, got.Deployment.Why)
		if !runs && got.Deployment.State != "done" {
			return coded{exitChanges, nil}
		}
		return nil
	}
}
