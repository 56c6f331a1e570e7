package main

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/server/api"
)

// maxSecret is the most bytes of a secret's value.
const maxSecret = 16 << 10

// secretCommand manages the secrets of a stage.
func secretCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "secret", Short: "Manage the secrets of a stage"}
	c := &config{}
	list := &cobra.Command{
		Use: "list SERVICE STAGE", Short: "List the secrets that a service declares",
		Args: cobra.ExactArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			var secrets []api.StageSecret
			if err := c.ask(cmd.Context(), http.MethodGet,
				"/services/"+url.PathEscape(args[0])+"/stages/"+url.PathEscape(args[1])+"/secrets", nil, &secrets); err != nil {
				return err
			}
			out := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
			for _, s := range secrets {
				set := "not set"
				if s.SetAt != nil && s.SetBy != nil {
					set = fmt.Sprintf("set by %s at %s", *s.SetBy, time.UnixMilli(*s.SetAt).Format(time.RFC3339))
				}
				fmt.Fprintf(out, "%s\t%s\t%s\n", s.Name, set, strings.Join(s.UsedBy, ", "))
			}
			return out.Flush()
		},
	}
	set := &cobra.Command{
		Use: "set SERVICE STAGE NAME", Short: "Set a secret's value, read from standard input",
		Args: cobra.ExactArgs(3), PreRunE: environment,
		Long: `Reads the value from standard input, without the final line break, so it does not appear
in a command history. Functions receive it with the next deployment.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), maxSecret+1))
			if err != nil {
				return fmt.Errorf("reading the value: %w", err)
			}
			value := strings.TrimRight(string(text), "\r\n")
			if value == "" || len(text) > maxSecret {
				return coded{exitUsage,
					errors.New("provide a value of up to 16 KiB on standard input, such as: rudmar secret set frostline live sms_key <key.txt")}
			}
			return c.ask(cmd.Context(), http.MethodPut,
				"/services/"+url.PathEscape(args[0])+"/stages/"+url.PathEscape(args[1])+"/secrets/"+url.PathEscape(args[2]),
				api.SecretValue{Value: value}, nil)
		},
	}
	for _, sub := range []*cobra.Command{list, set} {
		c.clientFlags(sub.Flags())
		cmd.AddCommand(sub)
	}
	return cmd
}
