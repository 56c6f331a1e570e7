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

// stagePath is where the API has a stage of a service.
func stagePath(service, stage string) string {
	return "/services/" + url.PathEscape(service) + "/stages/" + url.PathEscape(stage)
}

func invokeCommand() *cobra.Command {
	c := &config{}
	var event, sample, target string
	cmd := &cobra.Command{
		Use: "invoke SERVICE STAGE FUNCTION", Short: "Call a function, and print its answer",
		Long: `Calls a function in a stage with an event: one of its samples or saved cases by
name, or JSON of your own. Without either it is the first sample. The answer goes to
standard output as JSON; what the call took and wrote goes to standard error.

Exit codes: 0 it answered, 1 it did not.`,
		Example: `  rudmar invoke frostline trial warn
  rudmar invoke frostline trial warn --event '{"method": "GET", "params": {"station": "weir"}}'
  rudmar invoke frostline trial warn --event @event.json`,
		Args: cobra.ExactArgs(3), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			path := stagePath(args[0], args[1]) + "/functions/" + url.PathEscape(args[2])
			wish, err := c.callWish(cmd, path, event, sample)
			if err != nil {
				return err
			}
			if target != "" {
				wish.Target = target
			}
			var got api.Invocation
			if err := c.askLong(cmd.Context(), http.MethodPost, path+"/calls", wish, &got); err != nil {
				return err
			}
			return tellCall(cmd, got)
		},
	}
	c.clientFlags(cmd.Flags())
	cmd.Flags().StringVar(&event, "event", "", "the event as JSON, @FILE for a file's, - for standard input's")
	cmd.Flags().StringVar(&sample, "sample", "", "the name of a sample or of a saved case")
	cmd.Flags().StringVar(&target, "target", "", "the target, where the stage has several")
	return cmd
}

// callWish makes a call out of what was given, with what the function is known to take.
func (c *config) callWish(cmd *cobra.Command, path, event, sample string) (api.CallWish, error) {
	var wish api.CallWish
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
		return wish, coded{exitUsage, fmt.Errorf("it has no sample %q; it has %s", sample, strings.Join(names, ", "))}
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
		wish.Trigger = nil // what is made up comes by no trigger
	}
	if err := json.Unmarshal(text, &wish.Event); err != nil {
		return wish, coded{exitUsage, fmt.Errorf("the event is not JSON: %w", err)}
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

// took says how a call started and how long it ran.
func took(got api.Invocation) string {
	start := "warm"
	if got.Cold {
		start = fmt.Sprintf("cold, started in %.0f ms", got.ColdMs)
	}
	return fmt.Sprintf("%s, ran %.1f ms", start, got.RunMs)
}

func tellCall(cmd *cobra.Command, got api.Invocation) error {
	for _, line := range got.Logs {
		fmt.Fprintf(cmd.ErrOrStderr(), "  %s\n", line.Text)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s: %s, memory peak %d of %d MiB, revision %s\n", got.Outcome, took(got),
		got.MemoryPeak>>20, got.MemoryLimit>>20, got.Revision)
	if got.Error != nil {
		return fmt.Errorf("it did not answer: %s", got.Error.Message)
	}
	text, err := canon.Append(nil, got.Answer)
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
		Use: "logs [SERVICE STAGE]", Short: "Show what functions wrote, and follow it",
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
				return coded{exitUsage, fmt.Errorf("%s is on several targets: give --target, one of %s", at.stage,
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
			tellLines(cmd.OutOrStdout(), lines)
			return nil
		},
	}
	c.clientFlags(cmd.Flags())
	at.flag(cmd)
	cmd.Flags().StringVar(&function, "function", "", "only lines of this function")
	cmd.Flags().StringVar(&target, "target", "", "the target, where the stage has several")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what is written from now on, until it is interrupted")
	return cmd
}

func tellLines(out io.Writer, lines []api.LogLine) {
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

// followLogs tells lines as they come, and takes the stream up again where it was
// when it breaks off.
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
			tellLines(cmd.OutOrStdout(), lines)
			return nil
		})
		if cmd.Context().Err() != nil {
			return nil // it was interrupted, which is how this ends
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

// maxLines is the most bytes of one event of a stream: log lines that came together.
const maxLines = 16 << 20

// stream reads server-sent events from the one after last on, and keeps in last
// which came. It tells whether any came; what the server refused is coded.
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
		_ = json.NewDecoder(response.Body).Decode(&p) // what is no problem has no more to say
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
