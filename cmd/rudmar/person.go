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

func personCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "person", Short: "Say who may use Rudmar, and what"}
	cmd.AddCommand(personAddCommand(), personListCommand(),
		personChangeCommand("close", "Close somebody: they cannot sign in any more, and are signed out", "person closed",
			func(p *store.Person) { p.Closed = true }),
		personChangeCommand("open", "Let somebody who was closed sign in again", "person opened",
			func(p *store.Person) { p.Closed = false }),
		personGroupsCommand(), personPasswordCommand())
	return cmd
}

// withPeople runs do on the people of the data folder. Who runs the command is
// noted as the machine knows them.
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
	err = do(d, by)
	if errors.Is(err, store.ErrNotFound) {
		err = fmt.Errorf("there is nobody of that name in %s; rudmar person list shows who there is", c.data)
	}
	return err
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
		again, err := typed(cmd, in, "once more: ")
		if err == nil && again != first {
			err = errors.New("the two are not the same; nothing was changed")
		}
		return first, err
	}
	return firstLineOf(cmd)
}

// askPassword reads the password of who signs in: from a terminal without showing
// it, or from the first line of standard input.
func askPassword(cmd *cobra.Command) (string, error) {
	if in, ok := terminal(cmd); ok {
		return typed(cmd, in, "password: ")
	}
	return firstLineOf(cmd)
}

// terminal gives standard input where it is a terminal.
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

func personAddCommand() *cobra.Command {
	c := &config{}
	var w people.Wish
	cmd := &cobra.Command{
		Use: "add HANDLE", Short: "Add somebody, or change their role and password; the password is read from RUDMAR_PASSWORD or from standard input",
		Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if rights.Of(w.Role) == nil {
				return coded{exitUsage, fmt.Errorf("--role is one of %s", strings.Join(rights.Roles(), ", "))}
			}
			var err error
			w.Handle = args[0]
			if w.Password, err = newPassword(cmd); err != nil {
				return err
			}
			return c.withPeople(cmd.Context(), func(d *people.Directory, by string) error { return d.Add(cmd.Context(), w, by) })
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	cmd.Flags().StringVar(&w.Role, "role", rights.Author, strings.Join(rights.Roles(), ", "))
	cmd.Flags().StringSliceVar(&w.Places, "in", nil,
		"a service, or a stage as service/stage, where the role holds; everywhere where none is given")
	cmd.Flags().StringSliceVar(&w.Groups, "group", nil, "a group that they belong to; may be given several times")
	return cmd
}

func personListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list", Short: "List who may use Rudmar", Args: cobra.NoArgs, PreRunE: environment,
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
			fmt.Fprintln(table, "HANDLE\tROLE\tIN\tGROUPS\t")
			for _, p := range list {
				in, state := strings.Join(p.Places, ", "), ""
				if in == "" {
					in = "everywhere"
				}
				if p.Closed {
					state = "closed"
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\n", p.Handle, p.Role, in, strings.Join(p.Groups, ", "), state)
			}
			return table.Flush()
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	return cmd
}

func personChangeCommand(name, short, noted string, change func(p *store.Person)) *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: name + " HANDLE", Short: short, Args: cobra.ExactArgs(1), PreRunE: environment,
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

func personGroupsCommand() *cobra.Command {
	c := &config{}
	var into, outOf []string
	cmd := &cobra.Command{
		Use: "groups HANDLE", Short: "Say which groups somebody belongs to", Args: cobra.ExactArgs(1), PreRunE: environment,
		Example: "  rudmar person groups linden --add growers-council --remove visitors",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(into)+len(outOf) == 0 {
				return coded{exitUsage, errors.New("say which with --add or --remove")}
			}
			return c.withPeople(cmd.Context(), func(d *people.Directory, by string) error {
				return d.Change(cmd.Context(), args[0], by, "groups changed", func(p *store.Person) error {
					p.Groups = slices.DeleteFunc(append(p.Groups, into...), func(g string) bool { return slices.Contains(outOf, g) })
					slices.Sort(p.Groups)
					p.Groups = slices.Compact(p.Groups)
					return nil
				})
			})
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	cmd.Flags().StringSliceVar(&into, "add", nil, "a group that they come to belong to")
	cmd.Flags().StringSliceVar(&outOf, "remove", nil, "a group that they leave")
	return cmd
}

func personPasswordCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "password HANDLE", Short: "Give somebody another password; they are signed out everywhere",
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
