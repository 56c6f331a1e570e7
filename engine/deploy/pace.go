package deploy

import (
	"time"

	"rudmar/core/plan"
)

// pace decides how many steps of a deployment are sent at once: between 1 and plan.Parallelism, fewer as responses
// get slower, since then the platform or this machine is busy, and more again as they get faster. It is not safe for
// concurrent use.
type pace struct {
	limit    float64
	baseline map[string]time.Duration // usual duration of a response, by kind of resource
}

// slowdown is how many times as long as usual a response takes when fewer steps are sent.
const slowdown = 4

// leastSlow is a duration below which a response is never slow.
const leastSlow = 250 * time.Millisecond

func newPace() *pace { return &pace{limit: plan.Parallelism, baseline: map[string]time.Duration{}} }

// atOnce returns the number of steps that can be in flight.
func (p *pace) atOnce() int { return max(1, int(p.limit)) }

// took takes the duration of the response to a step of a kind into account.
func (p *pace) took(kind string, d time.Duration) {
	usual, known := p.baseline[kind]
	switch {
	case !known || d < usual:
		p.baseline[kind] = d
	default: // the usual duration follows slowly, so a platform that is slow for good is used fully
		p.baseline[kind] = usual + (d-usual)/32
	}
	if known && d > leastSlow && d > slowdown*usual {
		p.limit = max(1, p.limit*0.7)
		return
	}
	p.limit = min(plan.Parallelism, p.limit+0.5)
}
