package observe

import (
	"fmt"
	"strings"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/store"
)

// namedInText is how many differences a notification's text names; its data has all of them.
const namedInText = 5

// driftNotices returns the notifications of what began and ended to differ between two observations: one for each
// kind of change, so a change of many resources does not send as many notifications.
func driftNotices(at manifest.Place, before, after []plan.Drift) []store.NewNotification {
	began, ended := plan.CompareDrift(before, after)
	var out []store.NewNotification
	add := func(kind, change, what string, changes []plan.DriftChange, name func(plan.DriftChange) string) {
		var list []plan.DriftChange
		var texts []string
		for _, c := range changes {
			if c.Kind == change {
				list, texts = append(list, c), append(texts, name(c))
			}
		}
		if len(list) == 0 {
			return
		}
		if more := len(texts) - namedInText; more > 0 {
			texts = append(texts[:namedInText], fmt.Sprintf("and %d more", more))
		}
		out = append(out, store.NewNotification{Kind: kind,
			Text: fmt.Sprintf("%s in %s on %s: %s", what, at.Stage, at.Target, strings.Join(texts, "; ")),
			Data: map[string]any{"target": at.Target.String(), "change": change, "changes": list}})
	}
	for _, k := range []struct{ change, began string }{
		{plan.DriftChanged, "changed outside Rudmar"},
		{plan.DriftDeleted, "deleted outside Rudmar"},
		{plan.DriftUnmanaged, "unmanaged resource"},
	} {
		add(store.NoticeDrift, k.change, k.began, began, plan.DriftChange.String)
		add(store.NoticeDriftOver, k.change, "drift is over", ended, func(c plan.DriftChange) string {
			return strings.TrimSpace(c.Resource + " " + c.Attribute)
		})
	}
	return out
}
