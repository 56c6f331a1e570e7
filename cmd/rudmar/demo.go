package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"rudmar/datadir"
	"rudmar/demo"
	"rudmar/engine"
	"rudmar/platform/local"
)

func demoCommand() *cobra.Command {
	c := &config{}
	var fresh bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run Rudmar with the data of a fictional growers' cooperative",
		Long: `Creates a repository with a history, versions, deployments and a little traffic in a
folder of its own, through the same pushes and calls that a user makes, and prints the
address. Continues with the existing data when started again.`,
		Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if fresh {
				if err := startOver(cmd.Context(), c.data); err != nil {
					return fmt.Errorf("starting over: %w", err)
				}
			}
			c.demo = true
			return c.serve(cmd.Context(), func(ctx context.Context, e *engine.Engine) error {
				marker := filepath.Join(c.data, "demo-built")
				if _, err := os.Stat(marker); err != nil {
					fmt.Println("Building the demo: pushes, builds, deployments and invocations. This takes a few seconds.")
					build := func() error {
						return demo.Build(ctx, demo.Options{Server: c.address, Engine: e, Change: c.changeByHand, Dir: c.data})
					}
					if state, _ := e.Build.Isolation(); state == "refused" {
						fmt.Println("This machine cannot isolate builds. The demo's own builds run anyway; your pushes are refused if they run commands, unless Rudmar is started with --builds-uncaged.")
						inner := build
						build = func() error { return e.Build.WithoutIsolation(inner) }
					}
					err := e.Store.WithRelaxedSync(ctx, build)
					if err != nil {
						return fmt.Errorf("building the demo: %w; start over with --fresh", err)
					}
					if err := os.WriteFile(marker, []byte("1\n"), 0o600); err != nil {
						return err
					}
				}
				if c.plays {
					go demo.Play(ctx, e)
				}
				fmt.Print(demo.Welcome(c.address))
				return nil
			})
		},
	}
	c.dataFlag(cmd.Flags(), "demo-data")
	c.serveFlags(cmd.Flags())
	cmd.Flags().BoolVar(&c.plays, "play", true, "generate a little traffic while the demo runs")
	cmd.Flags().BoolVar(&fresh, "fresh", false, "delete the existing data and start over")
	return cmd
}

// changeByHand does the same as `rudmar platform change`.
func (c *config) changeByHand(ctx context.Context, scope, address string, attributes map[string]any) error {
	token, err := c.token()
	if err != nil {
		return err
	}
	h := &operator{c.platformAt, token}
	return h.ask(ctx, "PUT", "/hand/"+scope+"/"+escape(address), attributes, nil)
}

// startOver throws a data folder away, unless a Rudmar runs on it.
func startOver(ctx context.Context, dir string) error {
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, name := range []string{engine.LockFile, filepath.Join("platform", local.LockFile)} {
		lock, err := datadir.Take(ctx, filepath.Join(dir, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("%s: %w", dir, err)
		}
		defer lock.Unlock() //nolint:errcheck // the file is gone by then
	}
	return os.RemoveAll(dir)
}
