package main

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/google/renameio/v2"
	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	platforms "rudmar/engine/check"
	"rudmar/platform/local"
)

// offlineOffers returns the features of platforms without a server: those of the local one.
func offlineOffers() *check.Offers {
	return &check.Offers{Of: map[string]check.Offer{"local": platforms.Offer(local.Kinds())}}
}

func checkCommand() *cobra.Command {
	var format, explain, stage string
	var fix bool
	cmd := &cobra.Command{
		Use:   "check [FOLDER]",
		Short: "Check the manifests in a folder, without a server",
		Long: `Checks every service in a folder: each rudmar.yaml with its functions and cases.
Reports all problems at once, each with its location and remedy.

Exit codes: 0 a version can be built, with or without warnings; 3 the manifests have
errors; 2 wrong usage; 1 the folder could not be read.`,
		Args: cobra.MaximumNArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if explain != "" {
				return explainCode(cmd.OutOrStdout(), explain)
			}
			c := &checking{dir: ".", stage: stage, format: format, fix: fix, out: cmd.OutOrStdout()}
			if len(args) == 1 {
				c.dir = args[0]
			}
			return c.run()
		},
	}
	cmd.Flags().StringVar(&format, "format", "text", "output format: text, json or sarif")
	cmd.Flags().StringVar(&explain, "explain", "", "explain a diagnostic code such as RM1203")
	cmd.Flags().StringVar(&stage, "stage", "", "stage to check (default all)")
	cmd.Flags().BoolVar(&fix, "fix", false, "apply the certain fixes, then check")
	return cmd
}

func explainCode(out io.Writer, code string) error {
	e, ok := diagnostic.Explain(diagnostic.Code(code))
	if !ok {
		return coded{exitUsage, fmt.Errorf("unknown code %q", code)}
	}
	fmt.Fprintf(out, "%s: %s\n\n%s\n\nwrong:\n%s\n\nright:\n%s\n", e.Code, e.Title, e.Reason, e.Wrong, e.Right)
	return nil
}

// checking is one run of the check over a folder.
type checking struct {
	dir, stage, format string
	fix                bool
	out                io.Writer

	found     []diagnostic.Diagnostic
	functions int
	stages    []string // of all services
}

func (c *checking) run() error {
	switch c.format {
	case "text", "json", "sarif":
	default:
		return coded{exitUsage, fmt.Errorf("unknown format %q (expected text, json or sarif)", c.format)}
	}
	all, err := manifest.FromFS(os.DirFS(c.dir))
	if err != nil {
		return fmt.Errorf("reading %s: %w", c.dir, err)
	}
	services := manifest.Services(all.Files())
	if len(services) == 0 {
		return fmt.Errorf("no %s found in %s or below; a service needs one", language.ServiceFile, c.dir)
	}
	c.found = []diagnostic.Diagnostic{}
	for _, service := range services {
		if err := c.service(service); err != nil {
			return err
		}
	}
	if c.stage != "" && len(c.stages) > 0 && !slices.Contains(c.stages, c.stage) {
		return coded{exitUsage, fmt.Errorf("unknown stage %q (expected %s)", c.stage, strings.Join(c.stages, ", "))}
	}
	if err := c.report(len(services)); err != nil {
		return err
	}
	if diagnostic.HasErrors(c.found) {
		return coded{exitProblem, nil}
	}
	return nil
}

func (c *checking) service(service string) error {
	root := filepath.Join(c.dir, filepath.FromSlash(service))
	folder, err := manifest.FromFS(os.DirFS(root))
	if err != nil {
		return fmt.Errorf("reading %s: %w", service, err)
	}
	options := check.Options{Offers: offlineOffers(), Stage: c.stage}
	result := options.Service(folder)
	if c.fix {
		// A fix can reveal another problem, such as a key behind a tab.
		for range 5 {
			mended, err := mend(c.out, c.format, root, folder, result.Diagnostics)
			if err != nil {
				return err
			}
			if !mended {
				break
			}
			result = options.Service(folder)
		}
	}
	if result.Service != nil {
		c.functions += len(result.Service.Functions)
		for _, s := range result.Service.Stages {
			c.stages = append(c.stages, s.Name)
		}
	}
	texts := map[string]*diagnostic.Text{}
	out := bufio.NewWriter(c.out)
	for _, d := range result.Diagnostics {
		file := d.File
		d.File = path.Join(service, d.File)
		c.found = append(c.found, d)
		if c.format != "text" {
			continue
		}
		text, known := texts[file]
		if !known {
			if content, err := folder.Read(file); err == nil {
				text = diagnostic.NewText(content)
			}
			texts[file] = text
		}
		fmt.Fprintln(out, d)
		if text != nil {
			fmt.Fprintln(out, text.Excerpt(d))
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	return nil
}

// mend carries out the fixes that diagnostics bring, file by file.
func mend(out io.Writer, format, root string, folder *manifest.FSFolder, found []diagnostic.Diagnostic) (bool, error) {
	byFile := map[string][]diagnostic.Diagnostic{}
	for _, d := range found {
		if d.Fix != nil {
			byFile[d.File] = append(byFile[d.File], d)
		}
	}
	for file, list := range byFile {
		text, err := folder.Read(file)
		if err != nil {
			return false, err
		}
		name := filepath.Join(root, filepath.FromSlash(file))
		info, err := os.Stat(name)
		if err != nil {
			return false, err
		}
		if err := renameio.WriteFile(name, diagnostic.Apply(text, list), info.Mode()); err != nil {
			return false, fmt.Errorf("fixing %s: %w", file, err)
		}
		if format == "text" {
			for _, d := range list {
				fmt.Fprintf(out, "fixed %s: %s\n", d.Range, d.Fix.Title)
			}
		}
	}
	return len(byFile) > 0, nil
}

func (c *checking) report(services int) error {
	switch c.format {
	case "json":
		return printJSON(c.out, c.found)
	case "sarif":
		return printJSON(c.out, diagnostic.SARIF(c.found))
	}
	fmt.Fprintf(c.out, "%s in %s, %s\n", language.FormatCount(c.functions, "function"), language.FormatCount(services, "service"),
		language.FormatCount(len(c.found), "problem"))
	return nil
}
