package view

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/delivery"
	"rudmar/engine/observe"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// attention collects the items that need attention.
type attention []api.AttentionItem

func (n *attention) add(kind api.AttentionItemKind, stage, path, format string, args ...any) {
	*n = append(*n, api.AttentionItem{Kind: kind, Text: fmt.Sprintf(format, args...), Path: path,
		Stage: api.Optional(stage)})
}

// Attention returns the items that need attention, each with its page.
func Attention(f *Facts) []api.AttentionItem {
	out := attention{}
	if head := sourceHead(f); head.State == "failed" {
		out.add(api.AttentionItemKindBuild, "", "source", "The newest commit failed to build: %s", api.OrZero(head.Reason))
	}
	for _, stage := range f.Stages() {
		out.ofDeliveries(f, stage.Name)
		if left := f.Left[stage.Name]; len(left) > 0 {
			there, _ := f.VersionIn(stage.Name)
			out.add(api.AttentionItemKindIncomplete, stage.Name, fmt.Sprintf("deliveries/%d/%s", there, stage.Name),
				"Version %d entered %s without %s", there, stage.Name, shorten(left))
		}
		for _, p := range f.At(stage.Name) {
			out.ofLook(f.Looks[p.Place], p)
			for _, secret := range f.Turned[p.Place] {
				out.add(api.AttentionItemKindSecret, stage.Name, planOf(p),
					"%s changed in %s; %s on %s uses the old value until its plan runs",
					secret.Name, stage.Name, strings.Join(secret.Functions, ", "), p.Target)
			}
		}
	}
	return out
}

// planOf returns the page of the plan that takes a place to its deployed version.
func planOf(at store.Stage) string {
	return fmt.Sprintf("plan?stage=%s&target=%s&version=%d", at.Stage, at.Target, at.Version)
}

func (n *attention) ofDeliveries(f *Facts, stage string) {
	asked := false
	for _, d := range f.Deliveries {
		if d.Stage != stage || !f.NotBefore(d.Delivery) {
			continue
		}
		path := fmt.Sprintf("deliveries/%d/%s", d.Version, stage)
		if d.State == delivery.Failed {
			n.add(api.AttentionItemKindFailed, stage, path, "Version %d failed in %s: %s", d.Version, stage, d.Reason)
		}
		if d.State == delivery.Waiting && len(d.Blockers) > 0 {
			n.add(api.AttentionItemKindFailed, stage, fmt.Sprintf("plan?stage=%s&version=%d", stage, d.Version),
				"Version %d is blocked from %s: %s", d.Version, stage, blockerWords(d.Blockers))
		}
		if d.State == delivery.Waiting && !asked {
			if text := needsRequest(d.Gates); text != "" {
				asked = true // an older version is superseded by this one
				n.add(api.AttentionItemKindApproval, stage, path, "Version %d cannot enter %s yet: %s", d.Version, stage, text)
				(*n)[len(*n)-1].Version = &d.Version
			}
		}
	}
}

func (n *attention) ofLook(look observe.Observation, at store.Stage) {
	if look.Error != "" {
		n.add(api.AttentionItemKindPlatform, at.Stage, "board", "%s on %s is unreachable: %s", at.Stage, at.Target, look.Error)
	}
	drifted := map[string]bool{}
	for _, d := range look.Drift {
		if d.Open() && !drifted[d.Function] {
			drifted[d.Function] = true
			n.add(api.AttentionItemKindDrift, at.Stage, planOf(at), "%s was changed outside Rudmar in %s on %s",
				d.Function, at.Stage, at.Target)
		}
	}
	for _, fn := range slices.Sorted(maps.Keys(look.DeadLetter)) {
		n.add(api.AttentionItemKindDeadLetter, at.Stage, "functions/"+fn+"/messages?stage="+at.Stage, "%s",
			deadLetterWords(look.DeadLetter[fn], fn, at.Stage))
	}
	for _, fn := range slices.Sorted(maps.Keys(look.Functions)) {
		if f := look.Functions[fn]; f.Errors > 0 {
			n.add(api.AttentionItemKindErrors, at.Stage,
				fmt.Sprintf("functions/%s/logs?stage=%s&target=%s&call=failed", fn, at.Stage, at.Target),
				"%s failed in %d of %d invocations in %s, last hour", fn, f.Errors, f.Invocations, at.Stage)
		}
	}
}
