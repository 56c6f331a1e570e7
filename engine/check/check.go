// Package check checks services against what the platforms offer, and caches results so that the
// check of a small edit is fast.
package check

import (
	"context"
	"log/slog"
	"reflect"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/engine/recent"
	"rudmar/platform"
)

// fresh is how long a platform's description of itself is cached.
const fresh = 20 * time.Second

// remembered is how many services are remembered at most.
const remembered = 50

// Checker checks services.
type Checker struct {
	platforms map[string]*platform.Client
	log       *slog.Logger
	now       func() time.Time

	services *recent.Cache[string, *found]
	asking   singleflight.Group
	mu       sync.Mutex
	offers   *check.Offers
	asked    time.Time
}

// found is the result of one service.
type found struct {
	files     check.Cache
	resources expand.Cache
}

// New creates a checker of services against platforms, by name.
func New(platforms map[string]*platform.Client, now func() time.Time, log *slog.Logger) *Checker {
	return &Checker{platforms: platforms, log: log, now: now, services: recent.New[string, *found](remembered)}
}

// Offers returns the platforms' offers. An expired offer is requested once, for all callers, and without a
// lock. For a platform that does not respond, it returns the last offer, if any.
func (c *Checker) Offers(ctx context.Context) *check.Offers {
	c.mu.Lock()
	known, asked := c.offers, c.asked
	c.mu.Unlock()
	if known != nil && c.now().Sub(asked) < fresh {
		return known
	}
	now, _, _ := c.asking.Do("offers", func() (any, error) { // there is no error
		return c.ask(context.WithoutCancel(ctx), known), nil
	})
	return now.(*check.Offers)
}

// askFor is the time limit of a platform's response.
const askFor = 2 * time.Second

// ask asks all platforms concurrently.
func (c *Checker) ask(ctx context.Context, known *check.Offers) *check.Offers {
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	offers := &check.Offers{Of: map[string]check.Offer{}, All: true}
	var mu sync.Mutex
	var group sync.WaitGroup
	for name, client := range c.platforms {
		group.Go(func() {
			kinds, err := client.Kinds(ctx)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				offers.Of[name] = Offer(kinds)
			case known != nil:
				offers.Of[name], offers.All = known.Of[name], false
			default:
				c.log.Warn("asking a platform what it offers", "platform", name, "error", err)
				offers.All = false
			}
		})
	}
	group.Wait()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.asked = c.now()
	if c.offers == nil || !reflect.DeepEqual(c.offers, offers) {
		c.offers = offers
	}
	return c.offers
}

func (c *Checker) found(service string) *found {
	c.mu.Lock() // simultaneous callers share one request
	defer c.mu.Unlock()
	f, known := c.services.Get(service)
	if !known {
		f = &found{}
		c.services.Add(service, f)
	}
	return f
}

// Check checks a service's folder.
func (c *Checker) Check(ctx context.Context, service string, folder manifest.Folder) check.Result {
	return check.Options{Offers: c.Offers(ctx), Cache: &c.found(service).files}.Service(folder)
}

// Render returns the resources of a checked service in a stage, on a target.
func (c *Checker) Render(service string, s *manifest.Service, stage *manifest.Stage, target manifest.Target,
	in expand.Inputs) []expand.Resource {
	resources, _ := expand.ExpandAgain(s, stage, target, in, &c.found(service).resources)
	return resources
}
