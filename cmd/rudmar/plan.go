package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/source"
	"rudmar/server/api"
)

// planning is one run of the plan command.
type planning struct {
	*config
	about
	version                int
	target, format, folder string
	branch                 string
}

func planCommand() *cobra.Command {
	c := &planning{config: &config{}}
	cmd := &cobra.Command{
		Use:   "plan [SERVICE STAGE]",
		Short: "Show what a version or a folder would change in a stage",
		Long: `Computes a plan on the server for each target of the stage and shows its impact, worst
first, and each step with its values and reason. The default version is the deployed
one, so the plan shows the drift.

--folder plans the contents of a folder, committed or not, against the stage in --stage.
--branch without a folder plans the newest commit of a branch that no stage deploys.
Such plans are shown and never run.

Exit codes: 0 no changes, 4 changes, 5 blockers, 3 the folder has errors.`,
		Args: cobra.MaximumNArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if c.folder != "" {
				return c.sketch(cmd, args)
			}
			if err := c.read(args, false); err != nil {
				return err
			}
			if cmd.Flags().Changed("branch") {
				return c.ofBranch(cmd, c.service, c.stage)
			}
			return c.plan(cmd, c.service, c.stage)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().IntVar(&c.version, "version", 0, "version to plan (default the deployed one)")
	cmd.Flags().StringVar(&c.target, "target", "", "target, if the stage has several (default all)")
	cmd.Flags().StringVar(&c.format, "format", "text", "output format: text or json (a list of plans, one per target)")
	cmd.Flags().StringVar(&c.folder, "folder", "", "folder of the service whose contents are planned")
	c.flag(cmd)
	cmd.Flags().StringVar(&c.branch, "branch", "main", "branch whose newest commit is planned or, with --folder, compared with")
	return cmd
}

func (c *planning) plan(cmd *cobra.Command, service, stage string) error {
	ctx := cmd.Context()
	targets, err := c.targets(ctx, service, stage, c.target)
	if err != nil {
		return err
	}
	documents, code := []*plan.Plan{}, 0
	for _, t := range targets {
		wish := api.PlanRequest{Stage: stage, Target: &t}
		if c.version > 0 {
			wish.Version = &c.version
		}
		var kept api.SavedPlan
		if err := c.ask(ctx, http.MethodPost, "/services/"+service+"/plans", wish, &kept); err != nil {
			return err
		}
		code = max(code, outcome(len(kept.Plan.Steps), len(kept.Plan.Blockers)))
		switch c.format {
		case "text":
			var text plainText
			if err := c.ask(ctx, http.MethodGet, fmt.Sprintf("/plans/%d/text", kept.Id), nil, &text); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Plan %d: %s%s\n", kept.Id, text, kept.Runnable.Reason)
		case "json":
			var p plan.Plan
			if err := c.ask(ctx, http.MethodGet, fmt.Sprintf("/plans/%d/document", kept.Id), nil, &p); err != nil {
				return err
			}
			documents = append(documents, &p)
		}
	}
	return c.end(cmd, documents, code)
}

// end prints the plans, if JSON is requested, and returns the exit code.
func (c *planning) end(cmd *cobra.Command, plans any, code int) error {
	switch c.format {
	case "text":
	case "json":
		if err := printJSON(cmd.OutOrStdout(), plans); err != nil {
			return err
		}
	default:
		return coded{exitUsage, fmt.Errorf("unknown format %q (expected text or json)", c.format)}
	}
	if code == 0 {
		return nil
	}
	return coded{code, nil}
}

// outcome returns the exit code for a number of steps and blockers.
func outcome(steps, problems int) int {
	switch {
	case problems > 0:
		return exitBlocked
	case steps > 0:
		return exitChanges
	}
	return 0
}

// ofBranch plans the newest commit of a branch.
func (c *planning) ofBranch(cmd *cobra.Command, service, stage string) error {
	if c.version > 0 {
		return coded{exitUsage, errors.New("--branch and --version exclude each other")}
	}
	return c.draw(cmd, service, api.DraftPlanRequest{Branch: c.branch, Stage: stage, Files: map[string]*string{}},
		"This branch is not deployed by any stage. Merge it to deploy it.")
}

// sketch plans a folder.
func (c *planning) sketch(cmd *cobra.Command, args []string) error {
	if len(args) > 0 || c.stage == "" || c.version > 0 {
		return coded{exitUsage, errors.New("--folder requires --stage and excludes a service and --version: rudmar plan --folder . --stage STAGE")}
	}
	ctx := cmd.Context()
	service, err := serviceIn(c.folder)
	if err != nil {
		return err
	}
	folder, err := manifest.FromFS(os.DirFS(c.folder))
	if err != nil {
		return err
	}
	files, err := c.changed(ctx, service, folder)
	if err != nil {
		return err
	}
	return c.draw(cmd, service, api.DraftPlanRequest{Branch: c.branch, Stage: c.stage, Files: files},
		"A folder is never deployed directly. Commit and push it.")
}

// draw prints what a change that is not delivered yet would change in a stage, on each of its targets.
func (c *planning) draw(cmd *cobra.Command, service string, wish api.DraftPlanRequest, then string) error {
	ctx := cmd.Context()
	targets, err := c.targets(ctx, service, wish.Stage, c.target)
	if err != nil {
		return err
	}
	plans, code := []api.Plan{}, 0
	for _, t := range targets {
		var got api.DraftPlan
		wish.Target = &t
		if err := c.ask(ctx, http.MethodPost, "/services/"+service+"/source/plan", wish, &got); err != nil {
			return err
		}
		for _, d := range got.Errors {
			fmt.Fprintf(cmd.ErrOrStderr(), "%s:%d:%d: %s %s\n", d.File, d.Line, d.Column, d.Code, d.Message)
		}
		if len(got.Errors) > 0 {
			return coded{exitProblem, nil}
		}
		plans, code = append(plans, got.Plan), max(code, outcome(len(got.Plan.Steps), len(got.Plan.Blockers)))
		if c.format == "text" {
			fmt.Fprint(cmd.OutOrStdout(), got.Text)
			fmt.Fprintln(cmd.OutOrStdout(), then)
		}
	}
	return c.end(cmd, plans, code)
}

// changed returns the files of a folder that are different from on a branch.
func (c *planning) changed(ctx context.Context, service string, folder manifest.Folder) (map[string]*string, error) {
	var there api.Source
	if err := c.ask(ctx, http.MethodGet, "/services/"+service+"/source?branch="+url.QueryEscape(c.branch), nil, &there); err != nil {
		return nil, err
	}
	blobs := map[string]string{}
	for _, f := range there.Files {
		blobs[f.Path] = f.Blob
	}
	out := map[string]*string{}
	for _, name := range tracked(ctx, c.folder, folder.Files()) {
		content, err := folder.Read(name)
		if err != nil {
			return nil, err
		}
		before, known := blobs[name]
		delete(blobs, name)
		if known && before == source.BlobName(content) || !utf8.Valid(content) {
			continue
		}
		text := string(content)
		out[name] = &text
	}
	for gone := range blobs {
		out[gone] = nil
	}
	return out, nil
}

// tracked leaves out files that git ignores, in a git repository.
func tracked(ctx context.Context, dir string, files []string) []string {
	list := exec.CommandContext(ctx, "git", "-C", dir, "ls-files", "-z", "--cached", "--others", "--exclude-standard", ".")
	out, err := list.Output()
	if err != nil {
		return files // not a repository: the whole folder counts
	}
	known := map[string]bool{}
	for _, name := range strings.Split(string(out), "\x00") {
		known[name] = true
	}
	return slices.DeleteFunc(slices.Clone(files), func(name string) bool { return !known[name] })
}
