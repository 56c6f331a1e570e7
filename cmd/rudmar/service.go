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

// confirmed returns the typed confirmation: from a flag, or from a terminal after the effect was shown.
func confirmed(cmd *cobra.Command, flag, name string) (string, error) {
	if flag != "" {
		return flag, nil
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return "", coded{exitUsage, fmt.Errorf("confirmation required: set --confirm %s", name)}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "type %s to confirm: ", name)
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil {
		return "", fmt.Errorf("reading the confirmation: %w", err)
	}
	return strings.TrimSpace(line), nil
}

func serviceCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "service", Short: "List, move and delete services"}
	c := &config{}
	list := &cobra.Command{
		Use: "list", Short: "List all services", Args: cobra.NoArgs, PreRunE: environment,
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
		deleteCommand("service", "Remove a service without deployed resources from the list",
			`Keeps the versions and the journal of the service. Delete the deployed resources first:
delete its folder in a commit, and deliver that version through the stages, each of
which shows the data that is lost and asks for its name.`, "/services/"))
	return cmd
}

func serviceMoveCommand() *cobra.Command {
	c := &config{}
	var to, confirm string
	cmd := &cobra.Command{
		Use: "move SERVICE", Short: "Move a service to another repository", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return coded{exitUsage, errors.New("set --to to the repository")}
			}
			typed, err := confirmed(cmd, confirm, args[0])
			if err != nil {
				return err
			}
			var done struct{ Effects []string }
			path := "/services/" + url.PathEscape(args[0]) + "/repository?confirm=" + url.QueryEscape(typed)
			if err := c.ask(cmd.Context(), http.MethodPut, path, api.RepositoryName{Name: to}, &done); err != nil {
				return err
			}
			for _, line := range done.Effects {
				fmt.Fprintln(cmd.OutOrStdout(), line)
			}
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&to, "to", "", "target repository")
	cmd.Flags().StringVar(&confirm, "confirm", "", "name of the service, to confirm without a prompt")
	return cmd
}

func deleteCommand(what, short, long, path string) *cobra.Command {
	c := &config{}
	var confirm string
	cmd := &cobra.Command{
		Use: "delete " + strings.ToUpper(what), Short: short, Long: long, Args: cobra.ExactArgs(1), PreRunE: environment,
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
	cmd.Flags().StringVar(&confirm, "confirm", "", "name, to confirm without a prompt")
	return cmd
}

func repositoryCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "repository", Short: "Create, list and delete repositories"}
	c := &config{}
	add := &cobra.Command{
		Use: "create NAME", Short: "Create a repository",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			var made struct{ Address string }
			if err := c.ask(cmd.Context(), http.MethodPost, "/repositories",
				api.RepositoryName{Name: args[0]}, &made); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), made.Address)
			return nil
		},
	}
	c.clientFlags(add.Flags())
	l := &config{}
	list := &cobra.Command{
		Use: "list", Short: "List all repositories", Args: cobra.NoArgs, PreRunE: environment,
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
					fmt.Fprintf(table, "\t\tmirrors %s %s\n", r.Mirror.Url, r.Mirror.Error)
				}
			}
			return table.Flush()
		},
	}
	l.clientFlags(list.Flags())
	cmd.AddCommand(add, list, mirrorCommand(), deleteCommand("repository", "Delete a repository without services",
		"This deletes its complete history.", "/repositories/"))
	return cmd
}
