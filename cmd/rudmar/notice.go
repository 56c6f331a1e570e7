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

func noticeCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "notice", Short: "Send notices of what happens to other systems, and see what came back"}
	cmd.AddCommand(noticeAddCommand(), noticeListCommand(), noticeSentCommand(),
		noticeEndCommand(), noticeAgainCommand())
	return cmd
}

func noticeAddCommand() *cobra.Command {
	c := &config{}
	var wish api.HookWish
	var service, stage string
	cmd := &cobra.Command{
		Use: "add NAME ADDRESS", Short: "Send notices to an address, and print the key that they are signed with, this once",
		Long: `Sends notices as CloudEvents 1.0 (structured, JSON) by POST. The header
Rudmar-Signature holds sha256= and the HMAC-SHA256 of the body by the key that is
printed now. Kinds are such as delivery.settled, delivery.stopped, "delivery.went
back", build.failed, version.built and drift.found; delivery. stands for all of
deliveries.`,
		Example: "  rudmar notice add board https://board.brambleford.example/rudmar --kind delivery. --service frostline",
		Args:    cobra.ExactArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			wish.Name, wish.Url = args[0], args[1]
			wish.Kinds = append([]string{}, wish.Kinds...)
			wish.Service, wish.Stage = api.Optional(service), api.Optional(stage)
			var made api.MadeHook
			if err := c.ask(cmd.Context(), http.MethodPost, "/hooks", wish, &made); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "notices go to %s from now on; the key that they are signed with is shown this once:\n",
				made.Hook.Url)
			fmt.Fprintln(cmd.OutOrStdout(), made.Key)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringSliceVar(&wish.Kinds, "kind", nil, "a kind of notices; all where none is given; may be given several times")
	cmd.Flags().StringVar(&service, "service", "", "only of this service")
	cmd.Flags().StringVar(&stage, "stage", "", "only of this stage of it")
	return cmd
}

// hooks lists where notices go.
func (c *config) hooks(cmd *cobra.Command) ([]api.Hook, error) {
	var got struct{ Hooks []api.Hook }
	err := c.ask(cmd.Context(), http.MethodGet, "/hooks", nil, &got)
	return got.Hooks, err
}

// hook gives one by its name.
func (c *config) hook(cmd *cobra.Command, name string) (api.Hook, error) {
	list, err := c.hooks(cmd)
	if err != nil {
		return api.Hook{}, err
	}
	var names []string
	for _, h := range list {
		if h.Name == name {
			return h, nil
		}
		names = append(names, h.Name)
	}
	return api.Hook{}, coded{exitUsage, fmt.Errorf("no notices go to %q; there are %s", name, orNone(names))}
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

func noticeListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list", Short: "List where notices go", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := c.hooks(cmd)
			if err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "NAME\tADDRESS\tKINDS\tOF")
			for _, h := range list {
				kinds := strings.Join(h.Kinds, ", ")
				if kinds == "" {
					kinds = "all"
				}
				of := strings.TrimSuffix(h.Service+"/"+h.Stage, "/")
				if of == "" {
					of = "every service"
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", h.Name, h.Url, kinds, of)
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func noticeSentCommand() *cobra.Command {
	c := &config{}
	var bodies bool
	cmd := &cobra.Command{
		Use: "sent NAME", Short: "Show what went there, and what came back", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := c.hook(cmd, args[0])
			if err != nil {
				return err
			}
			var list []api.Notice
			if err := c.ask(cmd.Context(), http.MethodGet, fmt.Sprintf("/hooks/%d/notices", h.Id), nil, &list); err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			for _, n := range list {
				fmt.Fprintf(table, "%d\t%s\t%s\t%s\t%d tries\t%s\n", n.Id, day(n.MadeAt), n.Kind, n.State, n.Tries,
					strings.ReplaceAll(n.Answer, "\n", " "))
				if text, err := canon.Append(nil, n.Event); err == nil && bodies {
					fmt.Fprintf(table, "\t%s\n", text)
				}
			}
			return table.Flush()
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().BoolVar(&bodies, "bodies", false, "show what was sent, too")
	return cmd
}

func noticeEndCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "end NAME", Short: "Send nothing there any more", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := c.hook(cmd, args[0])
			if err != nil {
				return err
			}
			return c.ask(cmd.Context(), http.MethodDelete, fmt.Sprintf("/hooks/%d", h.Id), nil, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}

func noticeAgainCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "again NUMBER", Short: "Send a notice once more, as it was", Args: cobra.ExactArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.ask(cmd.Context(), http.MethodPost, "/notices/"+args[0]+"/again", nil, nil)
		},
	}
	c.clientFlags(cmd.Flags())
	return cmd
}
