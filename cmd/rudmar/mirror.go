package main

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"rudmar/server/api"
)

// mirrorCommand makes a repository follow another one.
func mirrorCommand() *cobra.Command {
	c := &config{}
	var user, file string
	var every time.Duration
	var now, end bool
	cmd := &cobra.Command{
		Use: "mirror NAME [ADDRESS]", Short: "Make a repository follow another one, fetch it now, or follow it no more",
		Long: `Makes a repository follow the one at an address, of which each branch is taken by the
rules that a push is held against. It is fetched by interval, and at once when the other
host tells of a push: by a POST to the address that is printed, signed with the key that
is printed once (HMAC-SHA256 of the body, in X-Hub-Signature-256). What comes by it counts
as pushed by whoever set it up.`,
		Args: cobra.RangeArgs(1, 2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/repositories/" + url.PathEscape(args[0]) + "/mirror"
			switch {
			case end:
				return c.ask(cmd.Context(), http.MethodDelete, path, nil, nil)
			case now:
				return c.ask(cmd.Context(), http.MethodPost, path, nil, nil)
			case len(args) != 2:
				return coded{exitUsage, errors.New("give the address of the repository to follow, --now, or --end")}
			}
			wish := api.MirrorWish{Url: args[1], User: api.Optional(user), EveryMs: api.Optional(every.Milliseconds())}
			if file != "" {
				text, err := secretIn(file)
				if err != nil {
					return fmt.Errorf("reading the password: %w", err)
				}
				wish.Password = api.Optional(text)
			}
			var made struct{ Key string }
			if err := c.ask(cmd.Context(), http.MethodPut, path, wish, &made); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "It is fetched now. Push notices go to /pushed/%s of this server, signed with the key\n%s\nwhich is shown this once.\n",
				args[0], made.Key)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&user, "user", "", "who signs in at the other host")
	cmd.Flags().StringVar(&file, "mirror-password-file", "", "a file with the password or token for that")
	cmd.Flags().DurationVar(&every, "every", 0, "how often it is fetched, from 1m to 24h; 5m where nothing is said")
	cmd.Flags().BoolVar(&now, "now", false, "fetch it now")
	cmd.Flags().BoolVar(&end, "end", false, "follow it no more; what came by it stays")
	return cmd
}
