package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/tmaxmax/go-sse"

	"rudmar/core/canon"
	"rudmar/server/api"
)

// stagePath returns the API path of a stage of a service.
func stagePath(service, stage string) string {
	return "/services/" + url.PathEscape(service) + "/stages/" + url.PathEscape(stage)
}

func invokeCommand() *cobra.Command {
	c := &config{}
	var event, sample, target string
	cmd := &cobra.Command{
		Use: "invoke SERVICE STAGE FUNCTION", Short: "Invoke a function and print its response",
		Long: `Invokes a function in a stage with an event: one of its samples or saved cases by
name, or your own JSON (default the first sample). The response is printed to standard
output as JSON; duration, memory and log lines are printed to standard error.

Exit codes: 0 the invocation succeeded, 1 it failed.`,
		Args: cobra.ExactArgs(3), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			path := stagePath(args[0], args[1]) + "/functions/" + url.PathEscape(args[2])
			wish, err := c.invocationRequest(cmd, path, event, sample)
			if err != nil {
				return err
			}
			if target != "" {
				wish.Target = target
			}
			var got api.Invocation
			if err := c.askLong(cmd.Context(), http.MethodPost, path+"/invocations", wish, &got); err != nil {
				return err
			}
			return printInvocation(cmd, got)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&event, "event", "", "event as JSON, @FILE to read a file, or - to read standard input")
	cmd.Flags().StringVar(&sample, "sample", "", "name of a sample or of a saved case")
	cmd.Flags().StringVar(&target, "target", "", "target, if the stage has several")
	return cmd
}

// invocationRequest builds an invocation from the arguments and the function's samples.
func (c *config) invocationRequest(cmd *cobra.Command, path, event, sample string) (api.InvocationRequest, error) {
	var wish api.InvocationRequest
	var detail api.FunctionDetail
	if err := c.ask(cmd.Context(), http.MethodGet, path, nil, &detail); err != nil {
		return wish, err
	}
	if len(detail.Targets) > 0 {
		wish.Target = detail.Targets[0]
	}
	var names []string
	found := false
	for i, s := range detail.Samples {
		names = append(names, s.Name)
		if s.Name == sample || sample == "" && i == 0 {
			wish.Event, wish.Trigger, found = s.Event, s.Trigger, true
		}
	}
	if sample != "" && !found {
		return wish, coded{exitUsage, fmt.Errorf("unknown sample %q (expected %s)", sample, strings.Join(names, ", "))}
	}
	if event == "" {
		return wish, nil
	}
	text, err := eventText(cmd.InOrStdin(), event)
	if err != nil {
		return wish, err
	}
	wish.Event = nil
	if sample == "" {
		wish.Trigger = nil // a generated event has no trigger
	}
	if err := json.Unmarshal(text, &wish.Event); err != nil {
		return wish, coded{exitUsage, fmt.Errorf("the event is not valid JSON: %w", err)}
	}
	return wish, nil
}

// maxEvent is the most bytes of an event.
const maxEvent = 6 << 20

func eventText(in io.Reader, event string) ([]byte, error) {
	name, isFile := strings.CutPrefix(event, "@")
	switch {
	case isFile:
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, coded{exitUsage, fmt.Errorf("reading the event: %w", err)}
		}
		return text, nil
	case event == "-":
		return io.ReadAll(io.LimitReader(in, maxEvent))
	}
	return []byte(event), nil
}

// took returns how an invocation started and its duration.
func took(got api.Invocation) string {
	start := "warm"
	if got.Cold {
		start = fmt.Sprintf("cold start %.0f ms", got.ColdStartMs)
	}
	return fmt.Sprintf("%s, duration %.1f ms", start, got.DurationMs)
}

func printInvocation(cmd *cobra.Command, got api.Invocation) error {
	for _, line := range got.Logs {
		fmt.Fprintf(cmd.ErrOrStderr(), "  %s\n", line.Text)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s: %s, memory peak %d of %d MiB, revision %s\n", got.Outcome, took(got),
		got.MemoryPeak>>20, got.MemoryLimit>>20, got.Revision)
	if got.Error != nil {
		return fmt.Errorf("the invocation failed: %s", got.Error.Message)
	}
	text, err := canon.Append(nil, got.Response)
	if err != nil {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout(), string(text))
	return nil
}

func logsCommand() *cobra.Command {
	c := &config{}
	var function, target string
	var follow bool
	var at about
	cmd := &cobra.Command{
		Use: "logs [SERVICE STAGE]", Short: "Show and follow the logs of a stage",
		Args: cobra.MaximumNArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := at.read(args, false); err != nil {
				return err
			}
			targets, err := c.targets(cmd.Context(), at.service, at.stage, target)
			if err != nil {
				return err
			}
			if len(targets) > 1 {
				return coded{exitUsage, fmt.Errorf("%s has several targets: set --target to one of %s", at.stage,
					strings.Join(targets, ", "))}
			}
			query := url.Values{"target": targets}
			if function != "" {
				query.Set("function", function)
			}
			path := stagePath(at.service, at.stage) + "/logs"
			if follow {
				return c.followLogs(cmd, path+"/stream?"+query.Encode())
			}
			var lines []api.LogLine
			if err := c.ask(cmd.Context(), http.MethodGet, path+"?"+query.Encode(), nil, &lines); err != nil {
				return err
			}
			printLines(cmd.OutOrStdout(), lines)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	at.flag(cmd)
	cmd.Flags().StringVar(&function, "function", "", "function whose lines are shown (default all)")
	cmd.Flags().StringVar(&target, "target", "", "target, if the stage has several")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "follow new lines until interrupted")
	return cmd
}

func printLines(out io.Writer, lines []api.LogLine) {
	for _, l := range lines {
		by := l.Function
		switch {
		case l.Version != nil && *l.Version > 0:
			by += fmt.Sprintf(" (version %d)", *l.Version)
		case l.Revision != "":
			by += " (" + l.Revision + ")"
		}
		fmt.Fprintf(out, "%s %s: %s\n", time.UnixMilli(l.At).Format("15:04:05.000"), by, l.Text)
	}
}

// followLogs prints lines as they arrive, and resumes an interrupted stream.
func (c *config) followLogs(cmd *cobra.Command, path string) error {
	last, pause := "", time.Duration(0)
	for {
		got, err := c.stream(cmd.Context(), path, &last, func(event string, data []byte) error {
			if event != "lines" {
				return nil
			}
			var lines []api.LogLine
			if err := json.Unmarshal(data, &lines); err != nil {
				return fmt.Errorf("reading log lines: %w", err)
			}
			printLines(cmd.OutOrStdout(), lines)
			return nil
		})
		if cmd.Context().Err() != nil {
			return nil // an interrupt is the regular end
		}
		var refused coded
		if errors.As(err, &refused) {
			return err
		}
		if pause = min(2*pause+100*time.Millisecond, 5*time.Second); got {
			pause = 100 * time.Millisecond
		}
		select {
		case <-cmd.Context().Done():
			return nil
		case <-time.After(pause):
		}
	}
}

// maxLines is the maximum size in bytes of one event of a stream: a batch of log lines.
const maxLines = 16 << 20

// stream reads server-sent events after last, and stores the ID of the newest in last. It reports whether any
// arrived; a rejection by the server is a coded error.
func (c *config) stream(ctx context.Context, path string, last *string,
	each func(event string, data []byte) error) (got bool, err error) {
	if err := c.findServer(); err != nil {
		return false, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.server+"/api"+path, nil)
	if err != nil {
		return false, err
	}
	if err := c.sign(r); err != nil {
		return false, err
	}
	if *last != "" {
		r.Header.Set("Last-Event-ID", *last)
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return false, err
	}
	defer response.Body.Close()
	if response.StatusCode >= 400 && response.StatusCode < 500 {
		var p api.Problem
		_ = json.NewDecoder(response.Body).Decode(&p) // a response that is not a problem has no more details
		return false, coded{exitFailed, fmt.Errorf("%s %s", response.Status, p.Detail)}
	}
	for event, err := range sse.Read(response.Body, &sse.ReadConfig{MaxEventSize: maxLines}) {
		if err != nil {
			return got, err
		}
		if event.Data != "" {
			got = true
			if err := each(event.Type, []byte(event.Data)); err != nil {
				return got, err
			}
		}
		if event.LastEventID != "" {
			*last = event.LastEventID
		}
	}
	return got, nil
}
