package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path"

	"github.com/spf13/cobra"

	"rudmar/core/manifest"
)

func checkCommand() *cobra.Command {
	var format, explain string
	cmd := &cobra.Command{
		Use:   "check [FOLDER]",
		Short: "Check the manifests in a folder, without a server",
		Long: `Checks every service in a folder: each rudmar.yaml with its functions and cases.
All problems are told at once, each with its place and what to do.`,
		Args: cobra.MaximumNArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if explain != "" {
				return explainCode(cmd.OutOrStdout(), explain)
			}
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			return check(cmd.OutOrStdout(), dir, format)
		},
	}
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	cmd.Flags().StringVar(&explain, "explain", "", "tell what a code such as RM1203 means")
	return cmd
}

func explainCode(out io.Writer, code string) error {
	e, ok := manifest.Explain(manifest.Code(code))
	if !ok {
		return coded{exitUsage, fmt.Errorf("there is no code %q", code)}
	}
	fmt.Fprintf(out, "%s: %s\n\n%s\n\nwrong:\n%s\n\nright:\n%s\n", e.Code, e.Title, e.Why, e.Wrong, e.Right)
	return nil
}

func check(out io.Writer, dir, format string) error {
	if format != "text" && format != "json" {
		return coded{exitUsage, fmt.Errorf("--format is text or json, not %q", format)}
	}
	all, err := manifest.NewTree(os.DirFS(dir))
	if err != nil {
		return fmt.Errorf("reading %s: %w", dir, err)
	}
	services := manifest.Services(all.Files())
	if len(services) == 0 {
		return fmt.Errorf("there is no %s in %s or below it; a service needs one", manifest.ServiceFile, dir)
	}
	found := []manifest.Diagnostic{}
	functions := 0
	for _, service := range services {
		tree, err := manifest.NewTree(os.DirFS(path.Join(dir, service)))
		if err != nil {
			return fmt.Errorf("reading %s: %w", service, err)
		}
		result := manifest.NewLanguage().Check(tree)
		if result.Service != nil {
			functions += len(result.Service.Functions)
		}
		for _, d := range result.Diagnostics {
			text, readErr := tree.Read(d.File)
			d.File = path.Join(service, d.File)
			found = append(found, d)
			if format == "text" {
				fmt.Fprintln(out, d)
				if readErr == nil {
					fmt.Fprintln(out, d.Excerpt(text))
				}
			}
		}
	}
	if format == "json" {
		encoder := json.NewEncoder(out)
		encoder.SetIndent("", "  ")
		if err := encoder.Encode(found); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(out, "%d functions in %d services, %d problems\n", functions, len(services), len(found))
	}
	if manifest.HasErrors(found) {
		return coded{exitProblem, nil}
	}
	return nil
}
