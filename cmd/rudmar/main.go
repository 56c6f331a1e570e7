// Command rudmar declares functions in manifests, plans what a version would
// change, and delivers versions through stages.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"rudmar/engine/source"
	"rudmar/platform/local"
	"rudmar/platform/local/wasm"
)

// Exit codes.
const (
	exitFailed  = 1
	exitUsage   = 2
	exitProblem = 3 // the manifests have errors
)

// coded is an error with an exit code. One without text was told already.
type coded struct {
	code int
	err  error
}

func (c coded) Error() string {
	if c.err == nil {
		return ""
	}
	return c.err.Error()
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := command().ExecuteContext(ctx)
	if err == nil {
		return
	}
	code := exitFailed
	var c coded
	if errors.As(err, &c) {
		code = c.code
	}
	if text := err.Error(); text != "" {
		fmt.Fprintln(os.Stderr, "rudmar:", text)
	}
	os.Exit(code)
}

func command() *cobra.Command {
	root := &cobra.Command{
		Use:   "rudmar",
		Short: "Declare functions, plan what a version would change, deliver it through stages",
		Long: `Rudmar looks after functions: what they are is declared in manifests in a git
repository, what a version would change is planned against what is deployed,
and versions move through stages behind gates.

Start with:
  rudmar demo                 a running Rudmar with a made-up co-operative in it
  rudmar check                check the manifests in this folder, without a server
  rudmar serve                run Rudmar for yourself

Every flag can also be given in the environment: --listen as RUDMAR_LISTEN.
Exit codes: 0 done, 1 it failed, 2 wrong use, 3 the manifests have errors.`,
		SilenceUsage: true, SilenceErrors: true,
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return coded{exitUsage, fmt.Errorf("%w; see %s --help", err, c.CommandPath())}
	})
	root.AddCommand(serveCommand(), demoCommand(), platformCommand(), personCommand(), secretCommand(), checkCommand(), formatCommand(), versionCommand(), becomesCommand(), newCommand(), schemaCommand(), planCommand(), hookCommand())
	root.AddCommand(wasmWorkerCommand())
	return root
}

// wasmWorkerCommand is what the local platform runs functions with that were
// compiled to WebAssembly; nobody else needs it.
func wasmWorkerCommand() *cobra.Command {
	return &cobra.Command{
		Use: local.WorkerCommand, Hidden: true, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return wasm.Work(c.Context(), os.NewFile(3, "calls"), os.NewFile(4, "answers"))
		},
	}
}

// hookCommand is what git's hooks run; nobody else needs it.
func hookCommand() *cobra.Command {
	return &cobra.Command{
		Use: source.HookCommand + " pre-receive", Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, _ []string) error {
			err := source.PreReceive(c.Context(), offlineOffers(), os.Stdin, os.Stderr)
			if errors.Is(err, source.ErrRefused) {
				return coded{exitProblem, nil}
			}
			return err
		},
	}
}
