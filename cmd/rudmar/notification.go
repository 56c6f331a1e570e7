package main

import (
	"fmt"
	"net/http"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"rudmar/core/canon"
	"rudmar/server/api"
)

func notificationCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "notification", Short: "Manage webhooks and email addresses for notifications"}
	cmd.AddCommand(notificationCreateCommand(), notificationListCommand(), notificationShowCommand(),
		notificationDeleteCommand(), notificationResendCommand())
	return cmd
}

func notificationCreateCommand() *cobra.Command {
	c := &config{}
	var wish api.NewNotificationTarget
	var service, stage string
	cmd := &cobra.Command{
		Use: "create NAME ADDRESS", Short: "Send notifications to an address and print their signing key once",
		Long: `Sends notifications as CloudEvents 1.0 (structured, JSON) by POST. The header
Rudmar-Signature contains sha256= and the HMAC-SHA256 of the body under the printed key.
Types include delivery.settled, delivery.failed, delivery.rolled-back, build.failed,
version.built and drift.detected; delivery. selects all delivery types.`,
		Args: cobra.ExactArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			wish.Name, wish.Url = args[0], args[1]
			wish.Types = append([]string{}, wish.Types...)
			wish.Service, wish.Stage = api.Optional(service), api.Optional(stage)
			var made api.CreatedNotificationTarget
			if err := c.ask(cmd.Context(), http.MethodPost, "/notification-targets", wish, &made); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "sending notifications to %s; the signing key cannot be shown again:\n",
				made.Target.Url)
			fmt.Fprintln(cmd.OutOrStdout(), made.Key)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringSliceVar(&wish.Types, "type", nil, "notification type; repeatable (default all)")
	cmd.Flags().StringVar(&service, "service", "", "service (default all)")
	cmd.Flags().StringVar(&stage, "stage", "", "stage of the service (default all)")
	return cmd
}

// hooks lists notification targets.
func (c *config) hooks(cmd *cobra.Command) ([]api.NotificationTarget, error) {
	var got struct{ Targets []api.NotificationTarget }
	err := c.ask(cmd.Context(), http.MethodGet, "/notification-targets", nil, &got)
	return got.Targets, err
}

// hook returns a notification target by its name.
func (c *config) hook(cmd *cobra.Command, name string) (api.NotificationTarget, error) {
	list, err := c.hooks(cmd)
	if err != nil {
		return api.NotificationTarget{}, err
	}
	var names []string
	for _, h := range list {
		if h.Name == name {
			return h, nil
		}
		names = append(names, h.Name)
	}
	return api.NotificationTarget{}, coded{exitUsage, fmt.Errorf("no notification target %q (expected %s)", name, orNone(names))}
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

func notificationListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list", Short: "List notification targets", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := c.hooks(cmd)
			if err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "NAME\tADDRESS\tTYPES\tSCOPE")
			for _, h := range list {
				kinds := strings.Join(h.Types, ", ")
				if kinds == "" {
					kinds = "all"
				}
				of := strings.TrimSuffix(h.Service+"/"+h.Stage, "/")
				if of == "" {
					of = "all services"
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", h.Name, h.Url, kinds, of)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func notificationShowCommand() *cobra.Command {
	c := &config{}
	var bodies bool
	cmd := &cobra.Command{
		Use: "show NAME", Short: "Show the notifications sent to a target and their responses", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := c.hook(cmd, args[0])
			if err != nil {
				return err
			}
			var list []api.Notification
			if err := c.ask(cmd.Context(), http.MethodGet, fmt.Sprintf("/notification-targets/%d/notifications", h.Id), nil, &list); err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			for _, n := range list {
				fmt.Fprintf(table, "%d\t%s\t%s\t%s\t%d attempts\t%s\n", n.Id, day(n.CreatedAt), n.Type, n.State, n.Attempts,
					strings.ReplaceAll(n.Response, "\n", " "))
				if text, err := canon.Append(nil, n.Event); err == nil && bodies {
					fmt.Fprintf(table, "\t%s\n", text)
				}
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().BoolVar(&bodies, "bodies", false, "include the sent content")
	return cmd
}

func notificationDeleteCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "delete NAME", Short: "Stop sending notifications to a target", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := c.hook(cmd, args[0])
			if err != nil {
				return err
			}
			return c.ask(cmd.Context(), http.MethodDelete, fmt.Sprintf("/notification-targets/%d", h.Id), nil, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func notificationResendCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "resend NUMBER", Short: "Send a notification again", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.ask(cmd.Context(), http.MethodPost, "/notifications/"+args[0]+"/resend", nil, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}
