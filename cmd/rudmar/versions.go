package main

import (
	"fmt"
	"net/http"
	"net/url"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"rudmar/core/language"
	"rudmar/server/api"
)

// buildInfo returns the version line of the program: its commit and the Go version.
func buildInfo() string {
	commit := "unknown commit"
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision":
				commit = "commit " + s.Value
			case s.Key == "vcs.modified" && s.Value == "true":
				commit += " with local changes"
			}
		}
	}
	return commit + ", " + runtime.Version()
}

func versionNumber(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 0, coded{exitUsage, fmt.Errorf("version must be a number, not %q", text)}
	}
	return n, nil
}

// stagesText returns the stages in which a version is deployed.
func stagesText(v api.VersionSummary) string {
	if len(v.Stages) == 0 {
		return "not deployed"
	}
	return strings.Join(v.Stages, ", ")
}

func versionListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list SERVICE", Short: "List the newest versions of a service", Args: cobra.ExactArgs(1),
		PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			var list []api.VersionSummary
			err := c.ask(cmd.Context(), http.MethodGet, "/services/"+url.PathEscape(args[0])+"/versions", nil, &list)
			if err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "VERSION\tCOMMIT\tAUTHOR\tBUILT\tSTAGES\tMESSAGE")
			for _, v := range list {
				fmt.Fprintf(table, "%d\t%.8s\t%s\t%s\t%s\t%s\n", v.Number, v.Hash, v.Author, day(v.BuiltAt), stagesText(v), v.Message)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func versionShowCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "show SERVICE VERSION", Short: "Show a version and its archives", Args: cobra.ExactArgs(2),
		PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := versionNumber(args[1])
			if err != nil {
				return err
			}
			var v api.VersionDetail
			path := fmt.Sprintf("/services/%s/versions/%d", url.PathEscape(args[0]), n)
			if err := c.ask(cmd.Context(), http.MethodGet, path, nil, &v); err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "Version %d of %s: %s\n", n, args[0], v.Version.Message)
			fmt.Fprintf(out, "  commit %s on %s, written by %s, pushed by %s, built %s\n", v.Version.Hash, v.Version.Branch,
				v.Version.Author, v.Version.Person, day(v.Version.BuiltAt))
			fmt.Fprintf(out, "  stages: %s\n", stagesText(v.Version))
			table := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
			for _, f := range v.Functions {
				changed := "unchanged"
				if f.Changed {
					changed = "changed"
				}
				fmt.Fprintf(table, "  %s\t%s\t%s\t%s\t%s\n", f.Function, changed, language.FormatSize(f.Bytes),
					language.FormatCount(len(f.Files), "file"), f.Digest)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func versionCompareCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "compare SERVICE VERSION OTHER", Short: "Compare the files and resources of two versions",
		Args: cobra.ExactArgs(3), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			from, err := versionNumber(args[1])
			if err != nil {
				return err
			}
			to, err := versionNumber(args[2])
			if err != nil {
				return err
			}
			var got api.Comparison
			path := fmt.Sprintf("/services/%s/versions/%d/compare/%d", url.PathEscape(args[0]), from, to)
			if err := c.ask(cmd.Context(), http.MethodGet, path, nil, &got); err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			for _, f := range append(got.Manifests, got.Files...) {
				fmt.Fprintf(out, "%s %s %s\n", f.Change, strings.TrimPrefix(api.OrZero(f.Function)+"/", "/"), f.Path)
			}
			for _, r := range got.Resources {
				fmt.Fprintf(out, "%s %s in %s on %s\n", r.Change, r.Address, r.Stage, r.Target)
			}
			if len(got.Manifests)+len(got.Files)+len(got.Resources) == 0 {
				fmt.Fprintln(out, "The versions are identical.")
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}
