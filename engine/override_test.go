package engine_test

import (
	"errors"
	"strings"
	"testing"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

// Authorized people override a gate, with a reason and after a look, for one version; the previous stage cannot
// be overridden.
func TestOverridingGates(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.add(people.NewUser{Username: "heron", Role: rights.Administrator})
	files := first()
	files["rudmar.yaml"] = `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: live, target: local/north, enter: {after: trial, when: ready}, gates: {approvals: {count: 2, from: council}}}
`
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	r.until("it to wait for approvals", func() bool { return r.gate(1, "live", delivery.ApprovalsGate).State == delivery.GateWaiting })
	name := r.gate(1, "live", delivery.ApprovalsGate).Name
	pass := func(who, gate, why string, shown bool) error {
		say := r.say(who, "live", 1)
		say.Comment = why
		if !shown {
			say.Shown = ""
		}
		return r.Line.Override(ctx, "frostline", 1, "live", gate, say)
	}
	for _, tt := range []struct {
		who, gate, why string
		shown          bool
		want           error
	}{
		{"linden", name, "the dam is full", true, rights.ErrDenied},
		{"wren", name, "the dam is full", true, rights.ErrDenied},
		{"heron", name, " ", true, deliver.ErrConfirm},
		{"heron", name, "the dam is full", false, deliver.ErrImpactChanged},
		{"heron", "preceding stage", "the dam is full", true, deliver.ErrNotCounts},
		{"heron", "nothing", "the dam is full", true, deliver.ErrNotCounts},
	} {
		if err := pass(tt.who, tt.gate, tt.why, tt.shown); !errors.Is(err, tt.want) {
			t.Errorf("%s passes over %q because of %q: %v", tt.who, tt.gate, tt.why, err)
		}
	}
	if d, err := r.Store.Delivery(ctx, "frostline", 1, "live"); err != nil || d.State != delivery.Waiting {
		t.Fatalf("%v: it is %s", err, d.State)
	}

	// The approver withdraws an approval.
	r.approves(1, "live")
	if why := r.gate(1, "live", delivery.ApprovalsGate).Reason; !strings.Contains(why, "1") {
		t.Errorf("after one: %s", why)
	}
	if err := r.Line.WithdrawApproval(ctx, "frostline", 1, "live", r.person("heron")); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("somebody else's approval is taken back: %v", err)
	}
	must(t, r.Line.WithdrawApproval(ctx, "frostline", 1, "live", r.person("linden")))
	if list, err := r.Store.Approvals(ctx, "frostline", 1, "live"); err != nil || len(list) != 0 {
		t.Errorf("%v: %+v", err, list)
	}

	must(t, pass("heron", name, "the dam is full", true))
	r.reaches(1, "live", delivery.Settled)
	judged, err := r.Line.GateResults(ctx, "frostline", 1)
	must(t, err)
	said := ""
	for _, g := range judged[deliver.Key{Version: 1, Stage: "live"}].Gates {
		said += g.Reason + "\n"
	}
	if !strings.Contains(said, "overridden by heron: the dam is full") {
		t.Errorf("the gates say %s", said)
	}
	if err := r.Line.WithdrawApproval(ctx, "frostline", 1, "live", r.person("linden")); !errors.Is(err, delivery.ErrTransition) {
		t.Errorf("an approval of what is there is taken back: %v", err)
	}
	// The next version has its gates again.
	files["a/main.py"] = "def run(call): return 'a' + ''\n"
	r.push(files)
	r.reaches(2, "trial", delivery.Settled)
	r.until("the next one to wait", func() bool { return r.gate(2, "live", delivery.ApprovalsGate).State == delivery.GateWaiting })
}
