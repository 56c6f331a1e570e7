package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"rudmar/core/rights"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

func userCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "user", Short: "Manage users and their roles"}
	cmd.AddCommand(userCreateCommand(), userListCommand(),
		userChangeCommand("close", "Close an account and end its sessions", "user closed",
			func(p *store.Person) { p.Closed = true }),
		userChangeCommand("reopen", "Reopen a closed account", "user reopened",
			func(p *store.Person) { p.Closed = false }),
		userListChangeCommand("groups", "group", func(p *store.Person) *[]string { return &p.Groups }),
		userListChangeCommand("email", "email address by which commits name the user", func(p *store.Person) *[]string { return &p.Emails }),
		userPasswordCommand())
	return cmd
}

// withPeople calls do with the users of the data folder. The journal names the machine's user who runs the
// command.
func (c *config) withPeople(ctx context.Context, do func(d *people.Directory, by string) error) error {
	s, err := store.Open(ctx, c.data, time.Now)
	if err != nil {
		return err
	}
	defer s.Close()
	sealed, err := s.HasSecrets(ctx)
	if err != nil {
		return err
	}
	d, err := people.Open(s, c.data, !sealed)
	if err != nil {
		return err
	}
	by := "the operator"
	if u, err := user.Current(); err == nil {
		by = "the operator " + u.Username
	}
	return do(d, by)
}

// newPassword reads a password from RUDMAR_PASSWORD, from a terminal without
// showing it, twice, or from the first line of standard input.
func newPassword(cmd *cobra.Command) (string, error) {
	if password := os.Getenv("RUDMAR_PASSWORD"); password != "" {
		return password, nil
	}
	if in, ok := terminal(cmd); ok {
		first, err := typed(cmd, in, "password: ")
		if err != nil {
			return "", err
		}
		again, err := typed(cmd, in, "repeat the password: ")
		if err == nil && again != first {
			err = errors.New("the passwords differ; nothing was changed")
		}
		return first, err
	}
	return firstLineOf(cmd)
}

// askPassword reads the password for a sign-in: from a terminal without echo, or from the first line of
// standard input.
func askPassword(cmd *cobra.Command) (string, error) {
	if in, ok := terminal(cmd); ok {
		return typed(cmd, in, "password: ")
	}
	return firstLineOf(cmd)
}

// terminal returns standard input if it is a terminal.
func terminal(cmd *cobra.Command) (*os.File, bool) {
	in, ok := cmd.InOrStdin().(*os.File)
	return in, ok && term.IsTerminal(int(in.Fd()))
}

// typed reads a line from a terminal without showing it.
func typed(cmd *cobra.Command, in *os.File, prompt string) (string, error) {
	fmt.Fprint(cmd.ErrOrStderr(), prompt)
	text, err := term.ReadPassword(int(in.Fd()))
	fmt.Fprintln(cmd.ErrOrStderr())
	if err != nil {
		return "", fmt.Errorf("reading the password: %w", err)
	}
	return string(text), nil
}

func firstLineOf(cmd *cobra.Command) (string, error) {
	line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", fmt.Errorf("no password was given: %w", err)
	}
	return line, nil
}

func userCreateCommand() *cobra.Command {
	c := &config{}
	var w people.NewUser
	cmd := &cobra.Command{
		Use: "create USERNAME", Short: "Create a user, or change their role and password; reads the password from RUDMAR_PASSWORD or standard input",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(rights.Roles(), w.Role) {
				return coded{exitUsage, fmt.Errorf("--role must be one of %s", strings.Join(rights.Roles(), ", "))}
			}
			var err error
			w.Username = args[0]
			if w.Password, err = newPassword(cmd); err != nil {
				return err
			}
			return c.withPeople(cmd.Context(), func(d *people.Directory, by string) error { return d.Add(cmd.Context(), w, by) })
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	cmd.Flags().StringVar(&w.Role, "role", rights.Author, strings.Join(rights.Roles(), ", "))
	cmd.Flags().StringSliceVar(&w.Places, "scope", nil,
		"scope of the role: a service, a stage as service/stage, or repository:NAME; repeatable (default everywhere)")
	cmd.Flags().StringSliceVar(&w.Groups, "group", nil, "group of the user; repeatable")
	return cmd
}

func userListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list", Short: "List all users", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := store.OpenReading(c.data, time.Now)
			if err != nil {
				return err
			}
			defer s.Close()
			list, err := s.People(cmd.Context())
			if err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "USERNAME\tRIGHTS\tGROUPS\t")
			for _, p := range list {
				var held []string
				for _, g := range p.Granted {
					text := g.Right
					if g.In != (rights.Scope{}) {
						text += " in " + g.In.String()
					}
					held = append(held, text)
				}
				state := ""
				if p.Closed {
					state = "closed"
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", p.Username, strings.Join(held, ", "), strings.Join(p.Groups, ", "), state)
			}
			return table.Flush()
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	return cmd
}

func userChangeCommand(name, short, noted string, change func(p *store.Person)) *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: name + " USERNAME", Short: short, Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.withPeople(cmd.Context(), func(d *people.Directory, by string) error {
				return d.Change(cmd.Context(), args[0], by, noted, func(p *store.Person) error {
					change(p)
					return nil
				})
			})
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	return cmd
}

// userListChangeCommand changes a list of words of a user.
func userListChangeCommand(name, what string, list func(p *store.Person) *[]string) *cobra.Command {
	c := &config{}
	var into, outOf []string
	cmd := &cobra.Command{
		Use: name + " USERNAME", Short: "Add or remove a user's " + what, Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(into)+len(outOf) == 0 {
				return coded{exitUsage, errors.New("set --add or --remove")}
			}
			if slices.ContainsFunc(into, func(word string) bool { return word == "" || strings.ContainsAny(word, " \t\n") }) {
				return coded{exitUsage, fmt.Errorf("--add: %q contains spaces", into)}
			}
			return c.withPeople(cmd.Context(), func(d *people.Directory, by string) error {
				return d.Change(cmd.Context(), args[0], by, name+" changed", func(p *store.Person) error {
					words := list(p)
					*words = slices.DeleteFunc(append(*words, into...), func(g string) bool { return slices.Contains(outOf, g) })
					slices.Sort(*words)
					*words = slices.Compact(*words)
					return nil
				})
			})
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	cmd.Flags().StringSliceVar(&into, "add", nil, what+" to add")
	cmd.Flags().StringSliceVar(&outOf, "remove", nil, what+" to remove")
	return cmd
}

func userPasswordCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "password USERNAME", Short: "Change a user's password and end all their sessions",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			password, err := newPassword(cmd)
			if err != nil {
				return err
			}
			return c.withPeople(cmd.Context(), func(d *people.Directory, by string) error {
				return d.SetPassword(cmd.Context(), args[0], password, by)
			})
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	return cmd
}
