package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"mime"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"rudmar/core/canon"
	"rudmar/core/language"
	"rudmar/platform"
)

// dataCommands are the manual operations on the data of functions.
func dataCommands() []*cobra.Command {
	return []*cobra.Command{
		scopeCommand("dead-letters REGION/SERVICE/STAGE", "List messages that failed five times", cobra.ExactArgs(1), deadLetters),
		scopeCommand("retry REGION/SERVICE/STAGE ID...", "Retry dead letters", cobra.MinimumNArgs(2), retry),
		scopeCommand("discard REGION/SERVICE/STAGE ID...", "Delete dead letters", cobra.MinimumNArgs(2), discard),
		scopeCommand("send REGION/SERVICE/STAGE QUEUE JSON", "Send a message to a queue", cobra.ExactArgs(3), sendMessage),
		scopeCommand("upload REGION/SERVICE/STAGE STORE/KEY FILE", "Upload a file as an object",
			cobra.ExactArgs(3), upload),
		operatorCommand("faults REGION [slow=200ms] [throttled=10%] [fail_before=5%] [fail_after=5%] [late=2s] [take=5s]",
			"Set the simulated faults of a region; only the region resets them", cobra.MinimumNArgs(1), faults),
		scopeCommand("secret REGION/SERVICE/STAGE NAME VALUE", "Store a secret that functions can read with a permission",
			cobra.ExactArgs(3), keepSecret),
	}
}

func (h *operator) client(scope string) (*platform.Client, platform.Scope, error) {
	s, err := scopeOf(scope)
	if err != nil {
		return nil, s, err
	}
	client, err := platform.NewClient(h.address, h.token)
	return client, s, err
}

func deadLetters(ctx context.Context, h *operator, words []string) error {
	client, scope, err := h.client(words[0])
	if err != nil {
		return err
	}
	list, err := client.Messages(ctx, scope, true)
	if err != nil {
		return err
	}
	out := tabwriter.NewWriter(shown(os.Stdout), 0, 4, 2, ' ', 0)
	for _, m := range list {
		text, err := canon.Append(nil, m.Body)
		if err != nil {
			return err
		}
		if len(text) > 80 {
			text = append(text[:80], "…"...)
		}
		fmt.Fprintf(out, "%d\t%s\t%s\t%s\t%s\n", m.Id, time.UnixMilli(m.SentAt).Format(time.RFC3339), m.Source, m.Reason, text)
	}
	if len(list) == 0 {
		fmt.Fprintln(out, "no dead letters")
	}
	return out.Flush()
}

func retry(ctx context.Context, h *operator, words []string) error {
	return h.eachMessage(ctx, words, (*platform.Client).RetryMessage)
}

func discard(ctx context.Context, h *operator, words []string) error {
	return h.eachMessage(ctx, words, (*platform.Client).DeleteMessage)
}

func (h *operator) eachMessage(ctx context.Context, words []string,
	do func(*platform.Client, context.Context, platform.Scope, int64) error) error {
	client, scope, err := h.client(words[0])
	if err != nil {
		return err
	}
	for _, word := range words[1:] {
		id, err := strconv.ParseInt(word, 10, 64)
		if err != nil {
			return coded{exitUsage, fmt.Errorf("message must be a number, not %q; rudmar platform dead-letters lists them", word)}
		}
		if err := do(client, ctx, scope, id); err != nil {
			return err
		}
	}
	return nil
}

func sendMessage(ctx context.Context, h *operator, words []string) error {
	if !json.Valid([]byte(words[2])) {
		return coded{exitUsage, fmt.Errorf("%q is not valid JSON", words[2])}
	}
	return h.ask(ctx, http.MethodPost, "/hand/"+words[0]+"/queues/"+escape(words[1]), json.RawMessage(words[2]), nil)
}

func keepSecret(ctx context.Context, h *operator, words []string) error {
	return h.ask(ctx, http.MethodPut, "/hand/"+words[0]+"/secrets/"+escape(words[1]), words[2], nil)
}

// faults parses times and shares in their manifest forms.
func faults(ctx context.Context, h *operator, words []string) error {
	set := map[string]float64{}
	for _, pair := range words[1:] {
		name, text, _ := strings.Cut(pair, "=")
		var err error
		switch name {
		case "slow", "late", "take":
			var d time.Duration
			d, err = language.ParseTime(text)
			set[name+"_ms"] = float64(d.Milliseconds())
		case "throttled", "fail_before", "fail_after":
			set[name], err = language.ParseShare(text)
		default:
			return coded{exitUsage,
				fmt.Errorf("unknown fault %q (expected slow, throttled, fail_before, fail_after, late or take)", name)}
		}
		if err != nil {
			return coded{exitUsage, fmt.Errorf("%s: %w; write a time such as 200ms or a share such as 10%%", pair, err)}
		}
	}
	return h.ask(ctx, http.MethodPut, "/hand/"+escape(words[0])+"/faults", set, nil)
}

func upload(ctx context.Context, h *operator, words []string) error {
	content, err := os.ReadFile(words[2])
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, h.address+"/hand/"+words[0]+"/objects/"+words[1],
		bytes.NewReader(content))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	r.Header.Set("Content-Type", mime.TypeByExtension(filepath.Ext(words[2])))
	return answer(r, nil)
}
