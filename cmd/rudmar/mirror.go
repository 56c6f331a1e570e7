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

// mirrorCommand mirrors another repository.
func mirrorCommand() *cobra.Command {
	c := &config{}
	var user, file string
	var every time.Duration
	var now, end bool
	cmd := &cobra.Command{
		Use: "mirror NAME [ADDRESS]", Short: "Set up, fetch or remove the mirror of a repository",
		Long: `Mirrors the repository at an address. Each branch is checked like a push. Rudmar fetches
at an interval, and at once when the other host sends a push notification: a POST to the
printed address, signed with the key that is printed once (HMAC-SHA256 of the body, in
X-Hub-Signature-256). Mirrored commits count as pushed by the user who set up the mirror.`,
		Args: cobra.RangeArgs(1, 2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/repositories/" + url.PathEscape(args[0]) + "/mirror"
			switch {
			case end:
				return c.ask(cmd.Context(), http.MethodDelete, path, nil, nil)
			case now:
				return c.ask(cmd.Context(), http.MethodPost, path, nil, nil)
			case len(args) != 2:
				return coded{exitUsage, errors.New("set the address of the repository to mirror, --now, or --end")}
			}
			wish := api.MirrorSettings{Url: args[1], Username: api.Optional(user), EveryMs: api.Optional(every.Milliseconds())}
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
			fmt.Fprintf(cmd.OutOrStdout(), "Fetching now. Send push notifications to /pushed/%s of this server, signed with the key\n%s\nwhich cannot be shown again.\n",
				args[0], made.Key)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&user, "user", "", "username at the other host")
	cmd.Flags().StringVar(&file, "mirror-password-file", "", "file with the password or token for the other host")
	durationVar(cmd.Flags(), &every, "every", 0, "fetch interval, from 1m to 24h (default 5m)")
	cmd.Flags().BoolVar(&now, "now", false, "fetch now")
	cmd.Flags().BoolVar(&end, "end", false, "stop mirroring and keep the commits")
	return cmd
}
