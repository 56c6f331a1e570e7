package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"rudmar/server/api"
)

// usualServer is the address of Rudmar where nothing else is said.
const usualServer = "http://127.0.0.1:7070"

// login is what rudmar login keeps: where, as whom, and the token.
type login struct {
	Server string `json:"server"`
	Handle string `json:"handle"`
	Token  string `json:"token"`
	ID     int64  `json:"id"`
}

// loginFile is where it is kept.
func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("finding the folder of settings: %w", err)
	}
	return filepath.Join(dir, "rudmar", "login.json"), nil
}

// keptLogin reads it; the zero value where nobody has signed in.
func keptLogin() (login, error) {
	var l login
	file, err := loginFile()
	if err != nil {
		return l, nil // a machine without such a folder keeps nothing
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &l)
	}
	if err != nil {
		return l, fmt.Errorf("reading %s: %w; sign in again with rudmar login", file, err)
	}
	return l, nil
}

// sign puts on a request who asks: a token, a handle with its password, or what
// rudmar login kept. What was kept for one server is sent to no other.
func (c *config) sign(r *http.Request) error {
	token, err := c.ownToken()
	if err != nil {
		return err
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}
	if c.handle != "" {
		password, err := c.password()
		r.SetBasicAuth(c.handle, password)
		return err
	}
	kept, err := keptLogin()
	if err != nil {
		return err
	}
	if kept.Token == "" || strings.TrimSuffix(kept.Server, "/") != c.server {
		return coded{exitUsage, fmt.Errorf(
			"nobody is signed in to %s here: run rudmar login --server %s, or give --handle, or a token as RUDMAR_TOKEN", c.server, c.server)}
	}
	r.Header.Set("Authorization", "Bearer "+kept.Token)
	return nil
}

// ownToken gives the token of the environment or of a file, never of a flag, which
// everybody on the machine can read.
func (c *config) ownToken() (string, error) {
	if c.ownTokenFile == "" {
		return os.Getenv("RUDMAR_TOKEN"), nil
	}
	text, err := secretIn(c.ownTokenFile)
	if err != nil {
		return "", fmt.Errorf("reading your token: %w", err)
	}
	return text, nil
}

// findServer says which server is asked: that of the flag, else that of rudmar
// login, else the usual one.
func (c *config) findServer() error {
	if c.server == "" {
		kept, err := keptLogin()
		if err != nil {
			return err
		}
		if c.server = kept.Server; c.server == "" {
			c.server = usualServer
		}
	}
	c.server = strings.TrimSuffix(c.server, "/")
	return nil
}

func loginCommand() *cobra.Command {
	c := &config{}
	var name string
	var days int
	cmd := &cobra.Command{
		Use: "login", Short: "Sign in to a server, so that other commands need neither address nor password",
		Long: `Makes a token of yours on the server, with all that you may do there, and keeps it
with the server's address in a file that only you can read. The password is read
from RUDMAR_PASSWORD, --password-file, a terminal, or standard input. rudmar
logout ends the token.`,
		Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if c.handle == "" {
				return coded{exitUsage, errors.New("say who you are with --handle")}
			}
			if c.passwordFile == "" && os.Getenv("RUDMAR_PASSWORD") == "" {
				password, err := askPassword(cmd)
				if err != nil {
					return err
				}
				c.typed = password
			}
			return c.logIn(cmd, name, days)
		},
	}
	c.clientFlags(cmd.Flags())
	host, err := os.Hostname()
	if err != nil {
		host = "a machine"
	}
	cmd.Flags().StringVar(&name, "name", "login on "+host, "what the token is called in your list")
	cmd.Flags().IntVar(&days, "days", 90, "how long it lasts, up to 365")
	return cmd
}

func (c *config) logIn(cmd *cobra.Command, name string, days int) error {
	ctx := cmd.Context()
	var session api.Session
	if err := c.ask(ctx, http.MethodGet, "/session", nil, &session); err != nil {
		return err
	}
	var list []api.Token
	if err := c.ask(ctx, http.MethodGet, "/me/tokens", nil, &list); err != nil {
		return err
	}
	for _, t := range list {
		if t.Name == name { // of a login before, whose token nobody has any more
			if err := c.ask(ctx, http.MethodDelete, fmt.Sprintf("/me/tokens/%d", t.Id), nil, nil); err != nil {
				return err
			}
		}
	}
	var made api.MadeToken
	if err := c.ask(ctx, http.MethodPost, "/me/tokens",
		api.TokenWish{Name: name, Acts: session.Abilities, Places: []string{}, Days: &days}, &made); err != nil {
		return err
	}
	file, err := loginFile()
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(login{Server: c.server, Handle: session.Handle, Token: made.Text, ID: made.Token.Id}, "",
		"  ")
	if err == nil {
		err = errors.Join(os.MkdirAll(filepath.Dir(file), 0o700), renameio.WriteFile(file, text, 0o600))
	}
	if err != nil {
		return fmt.Errorf("keeping the token: %w", err)
	}
	fmt.Fprintf(cmd.OutOrStdout(), "signed in to %s as %s until %s; the token is in %s\n", c.server, session.Handle,
		day(made.Token.Until), file)
	return nil
}

func logoutCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "logout", Short: "End the token of rudmar login, and forget it", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			kept, err := keptLogin()
			if err != nil {
				return err
			}
			if kept.Token == "" {
				return errors.New("nobody is signed in here")
			}
			file, err := loginFile()
			if err != nil {
				return err
			}
			c.server, c.handle, c.ownTokenFile = kept.Server, "", ""
			ended := c.ask(cmd.Context(), http.MethodDelete, fmt.Sprintf("/me/tokens/%d", kept.ID), nil, nil)
			if err := os.Remove(file); err != nil {
				return errors.Join(ended, err)
			}
			if ended != nil {
				return fmt.Errorf("it is forgotten here, but the server did not end the token: %w; end it on the page You", ended)
			}
			fmt.Fprintln(cmd.OutOrStdout(), "signed out")
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func tokenCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Make, list and end tokens, with which machines act in your name"}
	cmd.AddCommand(tokenNewCommand(), tokenListCommand(), tokenEndCommand())
	return cmd
}

func tokenNewCommand() *cobra.Command {
	c := &config{}
	var wish api.TokenWish
	var days int
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Make a token, and print it this once", Args: cobra.ExactArgs(1), PreRunE: environment,
		Long: `Makes a token that acts in your name, never with more rights than you have, and
prints it alone on standard output. It is good as a bearer token, as RUDMAR_TOKEN,
and as the password of git beside your handle.`,
		Example: "  rudmar token new nightly-build --act write --act ask --in frostline --days 30",
		RunE: func(cmd *cobra.Command, args []string) error {
			wish.Name, wish.Days = args[0], &days
			wish.Acts, wish.Places = append([]string{}, wish.Acts...), append([]string{}, wish.Places...)
			var made api.MadeToken
			if err := c.ask(cmd.Context(), http.MethodPost, "/me/tokens", wish, &made); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s is for %s in %s, until %s; it is shown this once:\n", made.Token.Name,
				strings.Join(made.Token.Acts, ", "), places(made.Token.Places), day(made.Token.Until))
			fmt.Fprintln(cmd.OutOrStdout(), made.Text)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringSliceVar(&wish.Acts, "act", nil,
		"what it may do: look (always), try, write, ask, approve, 'pass over', secrets, run, 'look after'; may be given several times")
	cmd.Flags().StringSliceVar(&wish.Places, "in", nil,
		"a service, or a stage as service/stage, that it is for; everywhere where none is given")
	cmd.Flags().IntVar(&days, "days", 90, "how long it lasts, up to 365")
	return cmd
}

func tokenListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list", Short: "List your tokens", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var list []api.Token
			if err := c.ask(cmd.Context(), http.MethodGet, "/me/tokens", nil, &list); err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "ID\tNAME\tFOR\tIN\tUNTIL\tLAST USED")
			for _, t := range list {
				used := "never"
				if t.UsedAt != nil {
					used = day(*t.UsedAt) + " from " + t.UsedFrom
				}
				fmt.Fprintf(table, "%d\t%s\t%s\t%s\t%s\t%s\n", t.Id, t.Name, strings.Join(t.Acts, ", "), places(t.Places),
					day(t.Until), used)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func tokenEndCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "end ID", Short: "End a token: it is good for nothing from now on", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return coded{exitUsage, fmt.Errorf("%q is not the number of a token; rudmar token list shows them", args[0])}
			}
			return c.ask(cmd.Context(), http.MethodDelete, fmt.Sprintf("/me/tokens/%d", id), nil, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func places(list []string) string {
	if len(list) == 0 {
		return "every service"
	}
	return strings.Join(list, ", ")
}

func day(ms int64) string { return time.UnixMilli(ms).Format("2006-01-02 15:04") }
