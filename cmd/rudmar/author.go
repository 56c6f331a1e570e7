package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/expand"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/tree"
	"rudmar/platform"
	"rudmar/platform/local"
	"rudmar/starter"
)

// loadService checks the only service in a folder.
func loadService(dir string) (check.Result, error) {
	folder, err := manifest.FromFS(os.DirFS(dir))
	if err != nil {
		return check.Result{}, fmt.Errorf("reading %s: %w", dir, err)
	}
	r := check.Options{Offers: offlineOffers()}.Service(folder)
	if r.Service == nil {
		return r, fmt.Errorf("%s has no %s that can be read; run rudmar check", dir, language.ServiceFile)
	}
	return r, nil
}

func renderCommand() *cobra.Command {
	var stageName, format string
	cmd := &cobra.Command{
		Use:   "render [FOLDER]",
		Short: "Show the rendered resources of a stage, with the source of each value",
		Args:  cobra.MaximumNArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			r, err := loadService(dir)
			if err != nil {
				return err
			}
			if diagnostic.HasErrors(r.Diagnostics) {
				return coded{exitProblem, errors.New("the manifests have errors; run rudmar check")}
			}
			stage := &r.Service.Stages[0]
			if stageName != "" {
				if stage = r.Service.Stage(stageName); stage == nil {
					return coded{exitUsage, fmt.Errorf("%s has no stage %q", r.Service.Name, stageName)}
				}
			}
			// Secrets and addresses are known to a server only: their names are shown instead.
			in := expand.Inputs{Secrets: map[string]string{}, Address: "(address of " + stage.Name + ")"}
			for _, s := range r.Service.Secrets {
				in.Secrets[s] = "(" + s + ")"
			}
			resources, _ := expand.Expand(r.Service, stage, stage.Targets[0], in)
			if format == "json" {
				return printJSON(cmd.OutOrStdout(), resources)
			}
			return printResources(cmd.OutOrStdout(), resources)
		},
	}
	cmd.Flags().StringVar(&stageName, "stage", "", "stage (default the first one)")
	cmd.Flags().StringVar(&format, "format", "text", "output format: text or json")
	return cmd
}

func printResources(out io.Writer, resources []expand.Resource) error {
	units := platform.Units(local.Kinds().Kinds)
	table := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	for _, r := range resources {
		fmt.Fprintf(table, "%s\n", r.Address)
		for _, a := range r.Attributes {
			from := a.From.Rule.String()
			if a.From.Rule == tree.BuiltIn {
				from = "Rudmar default"
			}
			if a.From.File != "" {
				from = fmt.Sprintf("%s:%d (%s)", a.From.File, a.From.Line, a.From.Rule)
			}
			for _, o := range a.Through {
				from += fmt.Sprintf(", %s:%d (%s)", o.File, o.Line, o.Rule)
			}
			fmt.Fprintf(table, "  %s\t%s\t%s\n", a.Name, plan.Value(a.Value, units[r.Kind+"."+a.Name]), from)
		}
	}
	return table.Flush()
}

func newCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "new", Short: "Create a service or a function from a starter"}
	cmd.AddCommand(newServiceCommand())
	var dir, runtime string
	function := &cobra.Command{
		Use: "function NAME", Short: "Create a function with its manifest, code and a case",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := starter.Function(args[0], runtime)
			if err != nil {
				return coded{exitUsage, err}
			}
			r, err := loadService(dir)
			if err != nil {
				return err
			}
			if fn := r.Service.Function(args[0]); fn != nil {
				return fmt.Errorf("function %s already exists, in %s", fn.Name, fn.File)
			}
			return writeNew(cmd.OutOrStdout(), dir, files)
		},
	}
	function.Flags().StringVar(&dir, "in", ".", "folder of the service")
	function.Flags().StringVar(&runtime, "runtime", "python", "runtime: "+strings.Join(starter.Runtimes(), ", "))
	cmd.AddCommand(function)
	return cmd
}

func newServiceCommand() *cobra.Command {
	var dir, runtime string
	cmd := &cobra.Command{
		Use: "service NAME", Short: "Create a service with two stages, a function and a case",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := starter.Service(args[0], runtime)
			if err != nil {
				return coded{exitUsage, err}
			}
			folder := filepath.Join(dir, args[0])
			if err := writeNew(cmd.OutOrStdout(), folder, files); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(),
				"\nNext: cd %s, then rudmar check. README.md there explains how to deliver and call the service.\n", folder)
			return nil
		},
	}
	cmd.Flags().StringVar(&dir, "in", ".", "folder in which to create the service's folder")
	cmd.Flags().StringVar(&runtime, "runtime", "python",
		"runtime of its function: "+strings.Join(starter.Runtimes(), ", "))
	return cmd
}

// writeNew writes files that are not there yet. Nothing is overwritten.
func writeNew(out io.Writer, dir string, files map[string]string) error {
	names := make([]string, 0, len(files))
	for name := range files {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return fmt.Errorf("%s already exists; nothing was written", filepath.Join(dir, name))
		}
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		full := filepath.Join(dir, filepath.FromSlash(name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o755),
			os.WriteFile(full, []byte(files[name]), 0o644)); err != nil {
			return err
		}
		fmt.Fprintln(out, full)
	}
	return nil
}

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema service|function|case", Short: "Print the JSON Schema of a kind of manifest, for editors",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			file, ok := map[string]string{"service": language.ServiceFile, "function": language.FunctionFile,
				"case": language.CasesFolder}[args[0]]
			if !ok {
				return coded{exitUsage, fmt.Errorf("unknown schema %q (expected service, function or case)", args[0])}
			}
			return printJSON(cmd.OutOrStdout(), language.New().Schema(file))
		},
	}
}
