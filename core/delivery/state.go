// Package delivery contains the rules of deliveries: the states of a version in a stage, the
// transitions between them, and the gates that a version must pass.
//
// All its functions can be called concurrently; Shift.Look changes one of its arguments.
package delivery

import (
	"errors"
	"fmt"
)

// State is the state of a version in one stage.
type State string

// The states.
const (
	Waiting    State = "waiting"
	Planning   State = "planning"
	Deploying  State = "deploying"
	Shifting   State = "shifting"
	Testing    State = "testing"
	Settled    State = "settled"
	Failed     State = "failed"
	Rejected   State = "rejected"
	RolledBack State = "rolled-back"
	Superseded State = "superseded"
)

// Event is an event that moves a version from one state to another.
type Event string

// The events.
const (
	Enter     Event = "enter"     // all gates passed or are overridden
	Planned   Event = "planned"   // the plan has steps and no blockers
	Deployed  Event = "deployed"  // the deployment succeeded, or there was nothing to do
	Share     Event = "share"     // it is deployed, and receives part of the invocations
	Shifted   Event = "shifted"   // it receives all invocations
	Proved    Event = "tested"    // the cases passed, or there are none
	Fail      Event = "fail"      // an error occurred; the reason is stored with it
	Retry     Event = "retry"     // a person retries it
	Reject    Event = "reject"    // a person rejects it
	RollBack  Event = "roll back" // the previous version was restored
	Supersede Event = "supersede" // a newer version took its place in the queue
	Redeploy  Event = "redeploy"  // it is redeployed in place of a newer one
	Reask     Event = "reask"     // the plan differs from the approved one
)

// ErrTransition reports that an event has no meaning in a state.
var ErrTransition = errors.New("not allowed in this state")

// Next returns the state after an event.
func Next(s State, e Event) (State, error) {
	switch {
	case s == Waiting && e == Enter:
		return Planning, nil
	case s == Planning && e == Planned:
		return Deploying, nil
	case (s == Planning || s == Deploying) && e == Deployed:
		return Testing, nil
	case (s == Planning || s == Deploying) && e == Share:
		return Shifting, nil
	case s == Shifting && e == Shifted:
		return Testing, nil
	case s == Testing && e == Proved:
		return Settled, nil
	case (s == Planning || s == Deploying) && e == Reask:
		return Waiting, nil
	case Moving(s) && e == Fail:
		return Failed, nil
	case s == Failed && e == Retry:
		return Planning, nil
	case (s == Waiting || s == Failed) && e == Reject:
		return Rejected, nil
	case (s == Settled || s == Failed || s == Deploying || s == Shifting || s == Testing) && e == RollBack:
		return RolledBack, nil
	case (Over(s) || s == Failed) && s != Rejected && e == Redeploy:
		return Planning, nil
	case s == Waiting && e == Supersede:
		return Superseded, nil
	}
	return s, fmt.Errorf("%q while %s: %w", e, s, ErrTransition)
}

// Moving reports whether a delivery is in progress in the stage: no other one can start meanwhile.
func Moving(s State) bool {
	return s == Planning || s == Deploying || s == Shifting || s == Testing
}

// Over reports whether nothing follows the state automatically.
func Over(s State) bool {
	return s == Settled || s == Rejected || s == RolledBack || s == Superseded
}

// Standing is the state of one version in a stage.
type Standing struct {
	Version int
	// Turn orders versions by arrival: usually by number, but an old version can be delivered again.
	Turn  int64
	State State
	// Ready means that a waiting version can enter: all its gates passed.
	Ready bool
}

// Turn selects the delivery to continue in a stage: the newest version that is waiting and ready, unless one is
// in progress. Older waiting versions, and those older than the settled one, are superseded; a newer one that
// is not ready supersedes nobody.
func Turn(standing []Standing) (next int, overtaken []int) {
	var newest, settled int64
	moving := false
	for _, p := range standing {
		switch {
		case Moving(p.State):
			moving = true
		case p.State == Waiting && p.Ready && p.Turn > newest:
			newest, next = p.Turn, p.Version
		case p.State == Settled:
			settled = max(settled, p.Turn)
		}
	}
	for _, p := range standing {
		if p.State == Waiting && (p.Turn < newest || p.Turn < settled) {
			overtaken = append(overtaken, p.Version)
		}
	}
	if moving || newest < settled {
		return 0, overtaken
	}
	return next, overtaken
}
