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
	var now, end, takeOver bool
	var folders []string
	cmd := &cobra.Command{
		Use: "mirror NAME [ADDRESS]", Short: "Set up, fetch or remove the mirror of a repository",
		Long: `Mirrors the repository at an address. Each branch is checked like a push. Rudmar fetches
at an interval, and at once when the other host sends a push notification: a POST to the
printed address, signed with the key that is printed once (HMAC-SHA256 of the body, in
X-Hub-Signature-256). Mirrored commits are pushed by the machine account "mirror NAME",
which can change files in its folders alone; approvals of their versions require approvers
who, according to the remote, have written none of them. The mirror stops when the account
of the user who set it up is closed, until somebody takes it over.`,
		Args: cobra.RangeArgs(1, 2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/repositories/" + url.PathEscape(args[0]) + "/mirror"
			switch {
			case end:
				return c.ask(cmd.Context(), http.MethodDelete, path, nil, nil)
			case takeOver:
				return c.ask(cmd.Context(), http.MethodPost, path+"?takeOver=true", nil, nil)
			case now:
				return c.ask(cmd.Context(), http.MethodPost, path, nil, nil)
			case len(args) != 2:
				return coded{exitUsage, errors.New("set the address of the repository to mirror, --now, --take-over, or --end")}
			}
			wish := api.MirrorSettings{Url: args[1], Username: api.Optional(user), EveryMs: api.Optional(every.Milliseconds())}
			if len(folders) > 0 {
				wish.Folders = &folders
			}
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
	cmd.Flags().BoolVar(&takeOver, "take-over", false, "make the mirror act for you, and fetch now")
	cmd.Flags().StringSliceVar(&folders, "folder", nil, "folder in which the mirror can change files; repeatable (default all)")
	cmd.Flags().BoolVar(&end, "end", false, "stop mirroring and keep the commits")
	return cmd
}
