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

// usualServer is the default address of Rudmar.
const usualServer = "http://127.0.0.1:7070"

// login is stored by rudmar login: address, username and token.
type login struct {
	Server   string `json:"server"`
	Username string `json:"handle"`
	Token    string `json:"token"`
	ID       int64  `json:"id"`
}

// loginFile returns the path of the stored login.
func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("finding the settings folder: %w", err)
	}
	return filepath.Join(dir, "rudmar", "login.json"), nil
}

// keptLogin reads the stored login; the zero value if nobody has signed in.
func keptLogin() (login, error) {
	var l login
	file, err := loginFile()
	if err != nil {
		return l, nil // without a configuration folder nothing is stored
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

// sign adds credentials to a request: a token, a username with its password, or the stored login. A login for
// one server is sent to no other.
func (c *config) sign(r *http.Request) error {
	token, err := c.ownToken()
	if err != nil {
		return err
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}
	if c.username != "" {
		password, err := c.password()
		r.SetBasicAuth(c.username, password)
		return err
	}
	kept, err := keptLogin()
	if err != nil {
		return err
	}
	if kept.Token == "" || strings.TrimSuffix(kept.Server, "/") != c.server {
		return coded{exitUsage, fmt.Errorf(
			"not signed in to %s: run rudmar login --server %s, or set --username or RUDMAR_TOKEN", c.server, c.server)}
	}
	r.Header.Set("Authorization", "Bearer "+kept.Token)
	return nil
}

// ownToken returns the token of the environment or of a file, never of a flag, which
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

// findServer returns the address of the server: that of the flag, else that of rudmar login, else the default.
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
		Use: "login", Short: "Sign in to a server and store a token for other commands",
		Long: `Creates a token with all your rights on the server and stores it, with the server's
address, in a file that only you can read. Reads the password from RUDMAR_PASSWORD,
--password-file, the terminal or standard input. rudmar logout revokes the token.`,
		Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if c.username == "" {
				return coded{exitUsage, errors.New("--username is required")}
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
	cmd.Flags().StringVar(&name, "name", "login on "+host, "name of the token in your list")
	cmd.Flags().IntVar(&days, "days", 90, "days until the token expires, at most 365")
	return cmd
}

func (c *config) logIn(cmd *cobra.Command, name string, days int) error {
	ctx := cmd.Context()
	var session api.Session
	if err := c.ask(ctx, http.MethodGet, "/session", nil, &session); err != nil {
		return err
	}
	var list []api.Token
	if err := c.ask(ctx, http.MethodGet, "/account/tokens", nil, &list); err != nil {
		return err
	}
	for _, t := range list {
		if t.Name == name { // of a previous login, whose token no longer exists
			if err := c.ask(ctx, http.MethodDelete, fmt.Sprintf("/account/tokens/%d", t.Id), nil, nil); err != nil {
				return err
			}
		}
	}
	var made api.CreatedToken
	if err := c.ask(ctx, http.MethodPost, "/account/tokens",
		api.NewToken{Name: name, Permissions: session.Permissions, Scopes: []string{}, Days: &days}, &made); err != nil {
		return err
	}
	file, err := loginFile()
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(login{Server: c.server, Username: session.Username, Token: made.Text, ID: made.Token.Id}, "",
		"  ")
	if err == nil {
		err = errors.Join(os.MkdirAll(filepath.Dir(file), 0o700), renameio.WriteFile(file, text, 0o600))
	}
	if err != nil {
		return fmt.Errorf("storing the token: %w", err)
	}
	fmt.Fprintf(cmd.OutOrStdout(), "signed in to %s as %s until %s; the token is in %s\n", c.server, session.Username,
		day(made.Token.ExpiresAt), file)
	return nil
}

func logoutCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "logout", Short: "Revoke the token of rudmar login and delete it", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			kept, err := keptLogin()
			if err != nil {
				return err
			}
			if kept.Token == "" {
				return errors.New("not signed in")
			}
			file, err := loginFile()
			if err != nil {
				return err
			}
			c.server, c.username, c.ownTokenFile = kept.Server, "", ""
			ended := c.ask(cmd.Context(), http.MethodDelete, fmt.Sprintf("/account/tokens/%d", kept.ID), nil, nil)
			if err := os.Remove(file); err != nil {
				return errors.Join(ended, err)
			}
			if ended != nil {
				return fmt.Errorf("the token was deleted from this machine, but the server did not revoke it: %w; revoke it on the Account page", ended)
			}
			fmt.Fprintln(cmd.OutOrStdout(), "signed out")
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func tokenCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Create, list and revoke access tokens for machines"}
	cmd.AddCommand(tokenCreateCommand(), tokenListCommand(), tokenRevokeCommand())
	return cmd
}

func tokenCreateCommand() *cobra.Command {
	c := &config{}
	var wish api.NewToken
	var days int
	cmd := &cobra.Command{
		Use: "create NAME", Short: "Create a token and print it once", Args: cobra.ExactArgs(1), PreRunE: environment,
		Long: `Creates a token that acts in your name, never with more rights than you have, and prints
only the token on standard output. Use it as a bearer token, as RUDMAR_TOKEN, or as the
git password with your username.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			wish.Name, wish.Days = args[0], &days
			wish.Permissions, wish.Scopes = append([]string{}, wish.Permissions...), append([]string{}, wish.Scopes...)
			var made api.CreatedToken
			if err := c.ask(cmd.Context(), http.MethodPost, "/account/tokens", wish, &made); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "created token %s with %s in %s, expires %s; it cannot be shown again:\n", made.Token.Name,
				strings.Join(made.Token.Permissions, ", "), places(made.Token.Scopes), day(made.Token.ExpiresAt))
			fmt.Fprintln(cmd.OutOrStdout(), made.Text)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringSliceVar(&wish.Permissions, "permission", nil,
		"permission of the token: view (always included), invoke, write, request, approve, override, set-secrets, deploy or administer; repeatable")
	cmd.Flags().StringSliceVar(&wish.Scopes, "scope", nil,
		"service, or stage as service/stage, to which the token is limited (default all)")
	cmd.Flags().IntVar(&days, "days", 90, "days until the token expires, at most 365")
	return cmd
}

func tokenListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list", Short: "List your tokens", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var list []api.Token
			if err := c.ask(cmd.Context(), http.MethodGet, "/account/tokens", nil, &list); err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "ID\tNAME\tPERMISSIONS\tSCOPE\tEXPIRES\tLAST USED")
			for _, t := range list {
				used := "never"
				if t.UsedAt != nil {
					used = day(*t.UsedAt) + " from " + t.UsedFrom
				}
				fmt.Fprintf(table, "%d\t%s\t%s\t%s\t%s\t%s\n", t.Id, t.Name, strings.Join(t.Permissions, ", "), places(t.Scopes),
					day(t.ExpiresAt), used)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func tokenRevokeCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "revoke ID", Short: "Revoke a token", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return coded{exitUsage, fmt.Errorf("token must be a number, not %q; rudmar token list shows them", args[0])}
			}
			return c.ask(cmd.Context(), http.MethodDelete, fmt.Sprintf("/account/tokens/%d", id), nil, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func places(list []string) string {
	if len(list) == 0 {
		return "all services"
	}
	return strings.Join(list, ", ")
}

func day(ms int64) string { return time.UnixMilli(ms).Format("2006-01-02 15:04") }
