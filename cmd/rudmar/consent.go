package main

import (
	"bufio"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"rudmar/server/api"
)

// leastDigest is the minimum number of digits of --if-digest.
const leastDigest = 12

// restsFor is how long a delivery must wait without a change until the command stops waiting for it, and
// settlesFor until its reason is printed: gates are evaluated every two seconds.
const (
	restsFor   = 5 * time.Second
	settlesFor = 2500 * time.Millisecond
)

// consent is a person's consent to a change of a stage: by the answer at a terminal, or by flags.
type consent struct {
	yes, noWait bool
	digests     []string
}

// flags adds the flags of consent; those of digests only to commands whose change has one.
func (a *consent) flags(cmd *cobra.Command, hasDigest bool) {
	cmd.Flags().BoolVar(&a.yes, "yes", false, "confirm without a prompt")
	cmd.Flags().BoolVar(&a.noWait, "no-wait", false, "return at once instead of waiting for completion")
	if hasDigest {
		cmd.Flags().StringSliceVar(&a.digests, "if-digest", nil,
			"confirm without a prompt if the change has this digest, as printed with its impact")
	}
}

// ask returns nil if the person consents to a change; digest identifies it, "" for a change without one.
func (a *consent) ask(cmd *cobra.Command, question, digest string) error {
	if len(a.digests) > 0 {
		matches := func(d string) bool { return len(d) >= leastDigest && strings.HasPrefix(digest, d) }
		if slices.ContainsFunc(a.digests, matches) {
			return nil
		}
		return fmt.Errorf("the change now has digest %s, not %s: nothing was done; review it, and use the new digest",
			digest, strings.Join(a.digests, " or "))
	}
	if a.yes {
		return nil
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		how := "set --yes"
		if digest != "" {
			how = fmt.Sprintf("set --yes, or --if-digest %s to run exactly this change", digest)
		}
		return coded{exitUsage, fmt.Errorf("confirmation required: %s", how)}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s [y/N] ", question)
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil {
		return fmt.Errorf("reading the answer: %w", err)
	}
	if answer := strings.ToLower(strings.TrimSpace(line)); answer != "y" && answer != "yes" {
		return errors.New("not confirmed: nothing was done")
	}
	return nil
}

// followDelivery prints the state of a delivery as it changes, until it is completed or waits for something that
// time alone does not bring; without wait, once. It returns an error with exitChanges if the delivery fails, or
// rolls back against expectation.
func (c *config) followDelivery(cmd *cobra.Command, args []string, wait bool, expected ...api.DeliveryState) error {
	path, err := deliveryPath(args)
	if err != nil {
		return err
	}
	seen, shown, still := "", "", time.Now()
	for {
		var d api.DeliveryStage
		if err := c.ask(cmd.Context(), http.MethodGet, path, nil, &d); err != nil {
			return err
		}
		text, state := deliveryText(args, d), d.Place.State
		if text != seen {
			seen, still = text, time.Now()
		}
		if text != shown && (!wait || state != api.DeliveryStateWaiting || time.Since(still) > settlesFor) {
			fmt.Fprintln(cmd.OutOrStdout(), text)
			shown = text
		}
		switch {
		case slices.Contains(expected, state):
			return nil
		case state == api.DeliveryStateFailed || state == api.DeliveryStateRolledBack || state == api.DeliveryStateRejected:
			return coded{exitChanges, nil}
		case state == api.DeliveryStateSettled || state == api.DeliveryStateSuperseded || !wait:
			return nil
		}
		open := slices.ContainsFunc(d.Gates, func(g api.Gate) bool {
			return g.State != api.GateStatePassed && g.State != api.GateStateOverridden
		})
		paused := d.Shift != nil && d.Shift.Active && d.Shift.PausedBy != nil
		if (paused || state == api.DeliveryStateWaiting && open) && time.Since(still) > restsFor {
			return nil
		}
		select {
		case <-cmd.Context().Done():
			return cmd.Context().Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// deliveryText describes the state of a delivery on one line, with what it is waiting for.
func deliveryText(args []string, d api.DeliveryStage) string {
	text := fmt.Sprintf("version %s is %s in %s", args[1], d.Place.State, args[2])
	why := d.Place.Reason + api.OrZero(d.Place.BlockedBy) // a waiting version has only the latter
	if s := d.Shift; s != nil && s.Active {
		why = fmt.Sprintf("%g%% of invocations", s.Share)
		if s.PausedBy != nil {
			why += ", paused by " + *s.PausedBy
		}
	}
	if why == "" && d.Place.State == api.DeliveryStateWaiting {
		for _, g := range d.Gates {
			if g.State == api.GateStateWaiting || g.State == api.GateStateNotMet {
				why = g.Reason
				break
			}
		}
	}
	if why != "" {
		text += ": " + why
	}
	return text
}
