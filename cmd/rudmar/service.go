package main

import (
	"bufio"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"rudmar/server/api"
)

// confirmed gives what somebody typed to confirm: by a flag, or at a terminal
// after what it means was shown.
func confirmed(cmd *cobra.Command, flag, name string) (string, error) {
	if flag != "" {
		return flag, nil
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return "", coded{exitUsage, fmt.Errorf("this has to be confirmed: give --confirm %s", name)}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "type %s to confirm: ", name)
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil {
		return "", fmt.Errorf("reading the confirmation: %w", err)
	}
	return strings.TrimSpace(line), nil
}

func serviceCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "service", Short: "List services, move one to another repository, or remove one"}
	c := &config{}
	list := &cobra.Command{
		Use: "list", Short: "List the services of a server", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var services []api.ServiceSummary
			if err := c.ask(cmd.Context(), http.MethodGet, "/services", nil, &services); err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "SERVICE\tREPOSITORY\tSTAGES\tADDRESS")
			for _, s := range services {
				fmt.Fprintf(table, "%s\t%s\t%d\t%s\n", s.Name, s.Repository, s.Stages, s.CloneAddress)
			}
			return table.Flush()
		},
	}
	c.clientFlags(list.Flags())
	cmd.AddCommand(list, serviceMoveCommand(),
		removeCommand("service", "Take a service off the list of which nothing runs any more",
			`Its versions and its journal stay. What still runs has to be taken away before:
delete its folder in a commit, and let that version through its stages, each of
which shows what is lost and asks for its name.`, "/services/"))
	return cmd
}

func serviceMoveCommand() *cobra.Command {
	c := &config{}
	var to, confirm string
	cmd := &cobra.Command{
		Use: "move SERVICE", Short: "Give a service to another repository", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return coded{exitUsage, errors.New("say with --to which repository")}
			}
			typed, err := confirmed(cmd, confirm, args[0])
			if err != nil {
				return err
			}
			var done struct{ Means []string }
			path := "/services/" + url.PathEscape(args[0]) + "/repository?confirm=" + url.QueryEscape(typed)
			if err := c.ask(cmd.Context(), http.MethodPut, path, api.RepositoryWish{Name: to}, &done); err != nil {
				return err
			}
			for _, line := range done.Means {
				fmt.Fprintln(cmd.OutOrStdout(), line)
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&to, "to", "", "the repository")
	cmd.Flags().StringVar(&confirm, "confirm", "", "the service's name, where nobody can be asked")
	return cmd
}

func removeCommand(what, short, long, path string) *cobra.Command {
	c := &config{}
	var confirm string
	cmd := &cobra.Command{
		Use: "remove " + strings.ToUpper(what), Short: short, Long: long, Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			typed, err := confirmed(cmd, confirm, args[0])
			if err != nil {
				return err
			}
			return c.ask(cmd.Context(), http.MethodDelete, path+url.PathEscape(args[0])+"?confirm="+url.QueryEscape(typed),
				nil, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&confirm, "confirm", "", "its name, where nobody can be asked")
	return cmd
}

func repositoryCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "repository", Short: "Make, list and remove repositories"}
	c := &config{}
	add := &cobra.Command{
		Use: "add NAME", Short: "Make a repository that services can be pushed to",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			var made struct{ Address string }
			if err := c.ask(cmd.Context(), http.MethodPost, "/repositories",
				api.RepositoryWish{Name: args[0]}, &made); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), made.Address)
			return nil
		},
	}
	c.clientFlags(add.Flags())
	l := &config{}
	list := &cobra.Command{
		Use: "list", Short: "List the repositories of a server", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var repositories []api.Repository
			if err := l.ask(cmd.Context(), http.MethodGet, "/repositories", nil, &repositories); err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "REPOSITORY\tSERVICES\tADDRESS")
			for _, r := range repositories {
				fmt.Fprintf(table, "%s\t%s\t%s\n", r.Name, strings.Join(r.Services, ", "), r.CloneAddress)
				if r.Mirror != nil {
					fmt.Fprintf(table, "\t\tfollows %s %s\n", r.Mirror.Url, r.Mirror.Error)
				}
			}
			return table.Flush()
		},
	}
	l.clientFlags(list.Flags())
	cmd.AddCommand(add, list, mirrorCommand(), removeCommand("repository", "Take away a repository that holds no service any more",
		"It goes with its whole history.", "/repositories/"))
	return cmd
}
