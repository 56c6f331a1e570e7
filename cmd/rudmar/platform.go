package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/core/canon"
	"rudmar/core/language"
	"rudmar/platform"
)

func platformCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use:   "platform",
		Short: "Run the local platform separately, or change its resources directly",
		Args:  cobra.NoArgs, PreRunE: environment,
		Long: `Runs the local platform as a separate process with its own data folder. Start Rudmar
with: rudmar serve --platform http://127.0.0.1:7071 --platform-token-file platform-data/platform.token`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			log := c.logger()
			if err := c.dataFolder(log); err != nil {
				return err
			}
			token, err := c.token()
			if err != nil {
				return err
			}
			group := newServers(cmd.Context(), log)
			defer group.end()
			address, err := c.servePlatform(cmd.Context(), group, c.data, token, log)
			if err != nil {
				return err
			}
			fmt.Printf("Local platform listening at %s\n", address)
			return group.wait()
		},
	}
	c.dataFlag(cmd.Flags(), "platform-data")
	c.platformFlags(cmd.Flags())
	cmd.AddCommand(scopeCommand("show REGION/SERVICE/STAGE [ADDRESS]", "Show the actual resources", cobra.RangeArgs(1, 2), show),
		scopeCommand("change REGION/SERVICE/STAGE ADDRESS ATTRIBUTE=VALUE...",
			"Change a resource without Rudmar's knowledge", cobra.MinimumNArgs(3), change),
		scopeCommand("remove REGION/SERVICE/STAGE ADDRESS", "Delete a resource without Rudmar's knowledge",
			cobra.ExactArgs(2), remove),
		operatorCommand("caller NAME [GROUP...]", "Create a token for a caller of routes", cobra.MinimumNArgs(1), caller))
	cmd.AddCommand(dataCommands()...)
	cmd.AddCommand(conformCommand())
	return cmd
}

// operator is a client of the platform for manual changes.
type operator struct{ address, token string }

// scopeCommand is an operatorCommand whose first word is REGION/SERVICE/STAGE: run finds
// it in form.
func scopeCommand(use, short string, args cobra.PositionalArgs,
	run func(context.Context, *operator, []string) error) *cobra.Command {
	cmd := operatorCommand(use, short, args, run)
	work := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, words []string) error {
		if _, err := scopeOf(words[0]); err != nil {
			return err
		}
		return work(cmd, words)
	}
	return cmd
}

func operatorCommand(use, short string, args cobra.PositionalArgs,
	run func(context.Context, *operator, []string) error) *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{Use: use, Short: short, Args: args, PreRunE: environment,
		RunE: func(cmd *cobra.Command, words []string) error {
			if c.platform == "" {
				at, err := os.ReadFile(filepath.Join(c.data, "platform.address"))
				if err != nil {
					return fmt.Errorf("no platform runs with the data folder %s: set --data (the demo's folder is demo-data) or --platform", c.data)
				}
				c.platform = strings.TrimSpace(string(at))
			}
			token, err := c.knownToken()
			if err != nil {
				return err
			}
			return run(cmd.Context(), &operator{c.platform, token}, words)
		}}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	cmd.Flags().StringVar(&c.platform, "platform", "",
		"address of the platform (default the one started with the data folder)")
	c.tokenFlag(cmd.Flags())
	return cmd
}

func scopeOf(text string) (platform.Scope, error) {
	pieces := strings.Split(text, "/")
	if len(pieces) != 3 {
		return platform.Scope{},
			coded{exitUsage, fmt.Errorf("%q is not REGION/SERVICE/STAGE, such as north/frostline/trial", text)}
	}
	return platform.Scope{Region: pieces[0], Service: pieces[1], Stage: pieces[2]}, nil
}

func show(ctx context.Context, h *operator, words []string) error {
	scope, err := scopeOf(words[0])
	if err != nil {
		return err
	}
	client, err := platform.NewClient(h.address, h.token)
	if err != nil {
		return err
	}
	snapshot, err := client.Snapshot(ctx, scope)
	if err != nil {
		return err
	}
	out := tabwriter.NewWriter(shown(os.Stdout), 0, 4, 2, ' ', 0)
	for _, r := range snapshot.Resources {
		if len(words) == 2 && r.Address != words[1] {
			continue
		}
		text, err := canon.Append(nil, r.Attributes)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "%s\t%s\n", r.Address, text)
	}
	return out.Flush()
}

func change(ctx context.Context, h *operator, words []string) error {
	set := map[string]any{}
	for _, pair := range words[2:] {
		name, text, ok := strings.Cut(pair, "=")
		if !ok {
			return coded{exitUsage, fmt.Errorf("%q is not ATTRIBUTE=VALUE, such as memory=512MiB", pair)}
		}
		set[name] = attributeValue(name, text)
	}
	return h.send(ctx, http.MethodPut, words[0], words[1], set)
}

// attributeValue parses sizes and times in their manifest forms, and JSON.
func attributeValue(name, text string) any {
	if strings.HasPrefix(name, "env.") {
		return text
	}
	if bytes, err := language.ParseSize(text); err == nil {
		return bytes
	}
	if d, err := language.ParseTime(text); err == nil {
		return d.Milliseconds()
	}
	var v any
	if json.Unmarshal([]byte(text), &v) == nil {
		return v
	}
	return text
}

func remove(ctx context.Context, h *operator, words []string) error {
	return h.send(ctx, http.MethodDelete, words[0], words[1], nil)
}

func (h *operator) send(ctx context.Context, method, scope, address string, body any) error {
	if err := h.ask(ctx, method, "/hand/"+scope+"/"+escape(address), body, nil); err != nil {
		return err
	}
	fmt.Printf("Changed %s in %s. Rudmar was not notified; its page will show the drift.\n", address, scope)
	return nil
}

func caller(ctx context.Context, h *operator, words []string) error {
	var out struct{ Token string }
	if err := h.ask(ctx, http.MethodPost, "/hand/callers",
		map[string]any{"name": words[0], "groups": words[1:]}, &out); err != nil {
		return err
	}
	fmt.Println(out.Token)
	fmt.Fprintln(os.Stderr,
		"Send it as a header, Authorization: Bearer TOKEN, with requests to routes that are open to authenticated callers or to its groups.")
	return nil
}

func (h *operator) ask(ctx context.Context, method, path string, body, out any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, method, h.address+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	r.Header.Set("Content-Type", "application/json")
	return answer(r, out)
}

// statusError is an error response of a server, with its status.
type statusError struct {
	code   int
	detail string
}

func (s statusError) Error() string { return s.detail }

// Time limits of requests: of any request, and of one that builds or runs functions.
const (
	answerFor = 5 * time.Minute
	longFor   = time.Hour
)

// inTime adds a deadline to a request that has none.
func inTime(r *http.Request) (*http.Request, context.CancelFunc) {
	if _, set := r.Context().Deadline(); set {
		return r, func() {}
	}
	ctx, cancel := context.WithTimeout(r.Context(), answerFor)
	return r.WithContext(ctx), cancel
}

// answer sends a request and reads its answer or its problem.
func answer(r *http.Request, out any) error {
	r, cancel := inTime(r)
	defer cancel()
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return fmt.Errorf("%s is unreachable; is it running? %w", r.URL.Host, err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		return err
	}
	if response.StatusCode >= 400 {
		var p struct{ Detail string }
		if json.Unmarshal(text, &p) != nil || p.Detail == "" {
			p.Detail = response.Status
		}
		return statusError{response.StatusCode, p.Detail}
	}
	if out == nil || len(text) == 0 {
		return nil
	}
	if plain, is := out.(*plainText); is {
		*plain = plainText(text)
		return nil
	}
	return json.Unmarshal(text, out)
}

// plainText is an answer that is text, and not JSON.
type plainText string

// escape escapes one path segment of an address.
func escape(address string) string { return url.PathEscape(address) }
