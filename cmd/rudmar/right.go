package main

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/core/rights"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

func rightCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "right", Short: "Manage the rights of users and groups"}
	cmd.AddCommand(rightListCommand(),
		rightChangeCommand("grant", "Grant a role or a permission to a user or group", (*people.Directory).Grant),
		rightChangeCommand("revoke", "Revoke a right", (*people.Directory).Revoke))
	return cmd
}

func rightListCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use: "list", Short: "List the rights of all users and groups", Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := store.OpenReading(c.data, time.Now)
			if err != nil {
				return err
			}
			defer s.Close()
			list, err := s.Rights(cmd.Context())
			if err != nil {
				return err
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			fmt.Fprintln(table, "SUBJECT\tRIGHT\tSCOPE\tGRANTED BY")
			for _, r := range list {
				subject := r.Subject
				if r.Kind == store.GroupSubject {
					subject = "group " + subject
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", subject, r.Right, r.In, r.By)
			}
			return table.Flush()
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	return cmd
}

func rightChangeCommand(name, short string,
	change func(*people.Directory, context.Context, store.Right) error) *cobra.Command {
	c := &config{}
	var group bool
	var in string
	cmd := &cobra.Command{
		Use: name + " SUBJECT RIGHT", Short: short, Args: cobra.ExactArgs(2), PreRunE: environment,
		Long: short + `. A right is a role (` + strings.Join(rights.Roles(), ", ") + `)
or a permission (` + rights.Named() + `).
Its scope is everywhere, a service, a stage as service/stage, or repository:NAME.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			scope, err := rights.ParseScope(in)
			if err != nil {
				return coded{exitUsage, fmt.Errorf("--scope: %w", err)}
			}
			if rights.Of(args[1]) == nil {
				return coded{exitUsage, fmt.Errorf("unknown right %q (expected %s, %s)", args[1], strings.Join(rights.Roles(), ", "),
					rights.Named())}
			}
			r := store.Right{Kind: store.UserSubject, Subject: args[0], Grant: rights.Grant{Right: args[1], In: scope}}
			if group {
				r.Kind = store.GroupSubject
			}
			return c.withPeople(cmd.Context(), func(d *people.Directory, by string) error {
				r.By = by
				return change(d, cmd.Context(), r)
			})
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	cmd.Flags().StringVar(&in, "scope", "everywhere", "service, stage as service/stage, or repository:NAME")
	cmd.Flags().BoolVar(&group, "group", false, "SUBJECT is a group")
	return cmd
}
