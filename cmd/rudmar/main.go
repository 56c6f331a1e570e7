// Command rudmar declares functions in manifests, plans what a version would
// change, and delivers versions through stages.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"regexp"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/engine"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform/local"
	"rudmar/platform/local/wasm"
)

// Exit codes.
const (
	exitFailed  = 1
	exitUsage   = 2
	exitProblem = 3 // the manifests have errors
	exitChanges = 4 // a plan has steps
	exitBlocked = 5 // a plan has blockers
)

// coded is an error with an exit code. One without text was already reported.
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
		fmt.Fprintln(shown(os.Stderr), "rudmar:", text)
	}
	os.Exit(code)
}

// flagUsages is the part of the help template that lists flags.
var flagUsages = regexp.MustCompile(`\.(\w+)\.FlagUsages`)

func command() *cobra.Command {
	root := &cobra.Command{
		Use:     "rudmar",
		Version: buildInfo(),
		Short:   "Declare functions, plan changes and deliver versions through stages",
		Long: `Rudmar manages functions. Manifests in a git repository declare them, a plan compares a
version with the deployed state, and versions move through stages guarded by gates.

Start with:
  rudmar demo                 run Rudmar with a fictional cooperative's data
  rudmar check                find errors in the manifests in this folder, without a server
  rudmar serve                run Rudmar for yourself

Every flag can also be set in the environment: --listen as RUDMAR_LISTEN.
Exit codes: 0 success, 1 failure, 2 wrong usage, 3 the manifests have errors; plan:
0 no changes, 4 changes, 5 blockers.`,
		SilenceUsage: true, SilenceErrors: true,
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return coded{exitUsage, fmt.Errorf("%w; see %s --help", err, c.CommandPath())}
	})
	root.AddCommand(serveCommand(), demoCommand(), platformCommand(), userCommand(), rightCommand(),
		secretCommand(), checkCommand(),
		formatCommand(), versionCommand(), renderCommand(), newCommand(), schemaCommand(), planCommand(), driftCommand(),
		outputCommand(), deploymentCommand(), serviceCommand(), repositoryCommand(), deliveryCommand(), pruneCommand(),
		hookCommand(), loginCommand(), logoutCommand(), tokenCommand(), invokeCommand(), logsCommand(), statusCommand(),
		buildCommand(), deployCommand(), watchCommand(), runCommand(),
		caseCommand(), notificationCommand())
	root.AddCommand(wasmWorkerCommand())
	addExamples(root, "", examples())
	cobra.AddTemplateFunc("plainFlags", plainFlags)
	root.SetUsageTemplate(flagUsages.ReplaceAllString(root.UsageTemplate(), "(plainFlags .$1)"))
	strict(root)
	root.SetOut(shown(os.Stdout))
	root.SetErr(shown(os.Stderr))
	return root
}

// strict makes unknown commands and wrong arguments usage errors, with their exit code.
func strict(c *cobra.Command) {
	if takes := c.Args; takes != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if takes(c, args) == nil {
				return nil
			}
			expected := strings.TrimSpace(strings.TrimPrefix(c.Use, c.Name()))
			if expected == "" {
				expected = "none"
			}
			return coded{exitUsage, fmt.Errorf("wrong number of arguments: %d (expected %s); see %s --help", len(args), expected, c.CommandPath())}
		}
	}
	if c.HasSubCommands() && !c.Runnable() {
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			return unknownCommand(c, args[0])
		}
		c.Args = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return unknownCommand(c, args[0])
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		strict(sub)
	}
}

func unknownCommand(c *cobra.Command, name string) error {
	var names []string
	for _, sub := range c.Commands() {
		if !sub.Hidden {
			names = append(names, sub.Name())
		}
	}
	err := fmt.Errorf("%s has no command %q (expected %s)", c.CommandPath(), name, strings.Join(names, ", "))
	if near := diagnostic.Nearest(name, names); near != "" {
		err = fmt.Errorf("%s has no command %q; did you mean %q?", c.CommandPath(), name, near)
	}
	return coded{exitUsage, err}
}

// wasmWorkerCommand runs functions that were compiled to WebAssembly; only the local platform starts it.
func wasmWorkerCommand() *cobra.Command {
	return &cobra.Command{
		Use: local.WorkerCommand, Hidden: true, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return wasm.Work(c.Context(), os.NewFile(3, "calls"), os.NewFile(4, "answers"))
		},
	}
}

// hookCommand is the program of git's hooks; only git starts it.
func hookCommand() *cobra.Command {
	return &cobra.Command{
		Use: source.HookCommand + " pre-receive|post-receive", Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			dir := os.Getenv(engine.HookData)
			var s *store.Store
			if dir != "" {
				var err error
				if s, err = store.OpenReading(dir, time.Now); err != nil {
					return err
				}
				defer s.Close()
			}
			if args[0] == source.PostReceive {
				if s == nil {
					return nil
				}
				after := source.After{Found: engine.BuildOutcome(s, os.Getenv(source.RepositoryVariable)),
					Standing: engine.VersionStatus(s), Page: os.Getenv(engine.HookPage)}
				return after.PostReceive(c.Context(), os.Stdin, os.Stderr)
			}
			hook := source.Hook{Offers: hookOffers(), Repository: os.Getenv(source.RepositoryVariable)}
			if s != nil {
				hook.Owner = engine.OwnerOf(s)
				hook.Writes = &source.Writes{}
				if err := json.Unmarshal([]byte(os.Getenv(source.WritesVariable)), hook.Writes); err != nil {
					return fmt.Errorf("reading the pusher's rights: %w", err)
				}
			}
			err := hook.PreReceive(c.Context(), os.Stdin, os.Stderr)
			if errors.Is(err, source.ErrDenied) {
				return coded{exitProblem, nil}
			}
			return err
		},
	}
}

// hookOffers returns the offers against which pushes are checked: the local platform's, and the names of all
// connected platforms.
func hookOffers() *check.Offers {
	offers := offlineOffers()
	if names := os.Getenv(engine.HookPlatforms); names != "" {
		offers.Names = strings.Split(names, ",")
	}
	return offers
}
