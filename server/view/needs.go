package view

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/engine/observe"
	"rudmar/server/api"
)

// needs gathers what somebody has to look at.
type needs []api.Need

func (n *needs) add(kind api.NeedKind, stage, path, format string, args ...any) {
	*n = append(*n, api.Need{Kind: kind, Text: fmt.Sprintf(format, args...), Path: path, Stage: api.Optional(stage)})
}

// Needs lists what somebody has to look at, each with the page where.
func Needs(f *Facts) []api.Need {
	out := needs{}
	if head := sourceHead(f); head.State == "failed" {
		out.add(api.NeedKindBuild, "", "source", "The newest commit could not be built: %s", api.OrZero(head.Why))
	}
	for _, stage := range f.Stages() {
		out.ofDeliveries(f, stage.Name)
		if left := f.Left[stage.Name]; len(left) > 0 {
			there, _ := f.VersionIn(stage.Name)
			out.add(api.NeedKindLeft, stage.Name, fmt.Sprintf("deliveries/%d/%s", there, stage.Name),
				"Version %d came into %s without %s", there, stage.Name, fewWords(left))
		}
		for _, p := range f.At(stage.Name) {
			out.ofLook(f.Looks[p.Place], p.Place)
			for _, secret := range f.Turned[p.Place] {
				out.add(api.NeedKindSecret, stage.Name, "plan?stage="+stage.Name+"&target="+p.Target.String(),
					"%s has another value in %s; %s on %s has the old one until its plan is run",
					secret.Name, stage.Name, strings.Join(secret.Functions, ", "), p.Target)
			}
		}
	}
	return out
}

func (n *needs) ofDeliveries(f *Facts, stage string) {
	asked := false
	for _, d := range f.Deliveries {
		if d.Stage != stage || !f.NotBefore(d.Delivery) {
			continue
		}
		path := fmt.Sprintf("deliveries/%d/%s", d.Version, stage)
		if d.State == delivery.Stopped {
			n.add(api.NeedKindStopped, stage, path, "Version %d stopped in %s: %s", d.Version, stage, d.Why)
		}
		if d.State == delivery.Waiting && len(d.Stops) > 0 {
			n.add(api.NeedKindStopped, stage, fmt.Sprintf("plan?stage=%s&version=%d", stage, d.Version),
				"Version %d cannot enter %s as it stands: %s", d.Version, stage, aheadWords(d.Stops))
		}
		if d.State == delivery.Waiting && !asked {
			if text := waitsForSomebody(d.Gates); text != "" {
				asked = true // an older version is overtaken by this one
				n.add(api.NeedKindApproval, stage, path, "Version %d %s, to enter %s", d.Version, text, stage)
			}
		}
	}
}

func (n *needs) ofLook(look observe.Look, at manifest.Place) {
	if look.Error != "" {
		n.add(api.NeedKindPlatform, at.Stage, "board", "%s on %s cannot be seen: %s", at.Stage, at.Target, look.Error)
	}
	drifted := map[string]bool{}
	for _, d := range look.Drift {
		if d.Open() && !drifted[d.Function] {
			drifted[d.Function] = true
			n.add(api.NeedKindDrift, at.Stage, "plan?stage="+at.Stage, "%s was changed by hand in %s on %s",
				d.Function, at.Stage, at.Target)
		}
	}
	for _, fn := range slices.Sorted(maps.Keys(look.Parked)) {
		n.add(api.NeedKindParked, at.Stage, "functions/"+fn+"/messages?stage="+at.Stage, "%s",
			parkedWords(look.Parked[fn], fn, at.Stage))
	}
	for _, fn := range slices.Sorted(maps.Keys(look.Functions)) {
		if f := look.Functions[fn]; f.Errors > 0 {
			n.add(api.NeedKindErrors, at.Stage, "functions/"+fn+"?stage="+at.Stage,
				"%s failed %d of %d calls in %s in the last hour", fn, f.Errors, f.Calls, at.Stage)
		}
	}
}
