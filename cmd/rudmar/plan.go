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
		Short: "Show what a version, or what lies in a folder, would change in a stage",
		Long: `Makes a plan on the server for each target of the stage and shows it: what it
means, worst first, and each step with its values and its reason. Without
--version it is the version that is there, so that the plan shows what was
changed by hand.

With --folder it is what lies in the folder, committed or not, against what runs
in the stage of --stage; with --branch, and no folder, the newest commit of a branch
that no stage takes. Such a plan is shown, and never run.

Exit codes: 0 there is nothing to do, 4 something would change, 5 something stops
a plan, 3 the folder has errors.`,
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
	cmd.Flags().IntVar(&c.version, "version", 0, "the version to plan for")
	cmd.Flags().StringVar(&c.target, "target", "", "one target alone, where the stage has several")
	cmd.Flags().StringVar(&c.format, "format", "text", "text or json (a list of plans, one a target)")
	cmd.Flags().StringVar(&c.folder, "folder", "", "plan what lies in this folder of the service")
	c.flag(cmd)
	cmd.Flags().StringVar(&c.branch, "branch", "main", "the branch whose newest commit is planned, or with --folder the one that it is compared with")
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
		wish := api.PlanWish{Stage: stage, Target: &t}
		if c.version > 0 {
			wish.Version = &c.version
		}
		var kept api.KeptPlan
		if err := c.ask(ctx, http.MethodPost, "/services/"+service+"/plans", wish, &kept); err != nil {
			return err
		}
		code = max(code, outcome(len(kept.Plan.Steps), len(kept.Plan.Problems)))
		switch c.format {
		case "text":
			var text plainText
			if err := c.ask(ctx, http.MethodGet, fmt.Sprintf("/plans/%d/text", kept.Id), nil, &text); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Plan %d: %s%s\n", kept.Id, text, kept.Runnable.Why)
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

// end prints the plans, where they are asked for as JSON, and gives the exit code.
func (c *planning) end(cmd *cobra.Command, plans any, code int) error {
	switch c.format {
	case "text":
	case "json":
		if err := printJSON(cmd.OutOrStdout(), plans); err != nil {
			return err
		}
	default:
		return coded{exitUsage, fmt.Errorf("there is no format %q; there are text and json", c.format)}
	}
	if code == 0 {
		return nil
	}
	return coded{code, nil}
}

// outcome gives the exit code that a plan of so many steps and problems ends with.
func outcome(steps, problems int) int {
	switch {
	case problems > 0:
		return exitStopped
	case steps > 0:
		return exitChanges
	}
	return 0
}

// ofBranch plans the newest commit of a branch.
func (c *planning) ofBranch(cmd *cobra.Command, service, stage string) error {
	if c.version > 0 {
		return coded{exitUsage, errors.New("give --branch or --version, not both")}
	}
	return c.draw(cmd, service, api.SketchWish{Branch: c.branch, Stage: stage, Files: map[string]*string{}},
		"What lies on a branch that no stage takes is never run: merge it.")
}

// sketch plans what lies in a folder.
func (c *planning) sketch(cmd *cobra.Command, args []string) error {
	if len(args) > 0 || c.stage == "" || c.version > 0 {
		return coded{exitUsage, errors.New("with --folder give --stage, and neither a service nor --version: rudmar plan --folder . --stage STAGE")}
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
	return c.draw(cmd, service, api.SketchWish{Branch: c.branch, Stage: c.stage, Files: files},
		"What lies in a folder is never run: commit and push it.")
}

// draw shows what somebody has not brought to a stage yet would change there, on each of
// its targets.
func (c *planning) draw(cmd *cobra.Command, service string, wish api.SketchWish, then string) error {
	ctx := cmd.Context()
	targets, err := c.targets(ctx, service, wish.Stage, c.target)
	if err != nil {
		return err
	}
	plans, code := []api.Plan{}, 0
	for _, t := range targets {
		var got api.Sketch
		wish.Onto = &t
		if err := c.ask(ctx, http.MethodPost, "/services/"+service+"/source/plan", wish, &got); err != nil {
			return err
		}
		for _, d := range got.Errors {
			fmt.Fprintf(cmd.ErrOrStderr(), "%s:%d:%d: %s %s\n", d.File, d.Line, d.Column, d.Code, d.Message)
		}
		if len(got.Errors) > 0 {
			return coded{exitProblem, nil}
		}
		plans, code = append(plans, got.Plan), max(code, outcome(len(got.Plan.Steps), len(got.Plan.Problems)))
		if c.format == "text" {
			fmt.Fprint(cmd.OutOrStdout(), got.Text)
			fmt.Fprintln(cmd.OutOrStdout(), then)
		}
	}
	return c.end(cmd, plans, code)
}

// changed gives the files of a folder that are otherwise than on a branch.
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

// tracked leaves out what git ignores, where the folder is git's.
func tracked(ctx context.Context, dir string, files []string) []string {
	list := exec.CommandContext(ctx, "git", "-C", dir, "ls-files", "-z", "--cached", "--others", "--exclude-standard", ".")
	out, err := list.Output()
	if err != nil {
		return files // no folder of git's: all of it counts
	}
	known := map[string]bool{}
	for _, name := range strings.Split(string(out), "\x00") {
		known[name] = true
	}
	return slices.DeleteFunc(slices.Clone(files), func(name string) bool { return !known[name] })
}
