package plan

import (
	"fmt"
	"slices"
	"strings"

	"rudmar/core/impact"
	"rudmar/core/resource"
	"rudmar/core/route"
)

// order fills in the dependencies of each step, its phase, and the time along the critical path. For a cycle it
// returns the cycle as text.
func (b *builder) order(p *Plan) (cycle string) {
	needs := b.edges()
	n := len(p.Steps)
	open := make([]int, n) // dependencies not yet placed
	for i := range p.Steps {
		p.Steps[i].Needs = needs[i]
		open[i] = len(needs[i])
	}
	users := usersOf(needs)
	finish := make([]int64, n)
	var ready []int
	for i := range p.Steps {
		if open[i] == 0 {
			ready = append(ready, i)
		}
	}
	placed, all := 0, int64(0)
	for len(ready) > 0 {
		i := ready[0]
		ready = ready[1:]
		placed++
		s := &p.Steps[i]
		finish[i] += s.Expected
		all += s.Expected
		p.Phases = max(p.Phases, s.Phase+1)
		p.Expected = max(p.Expected, finish[i])
		for _, u := range users[i] {
			p.Steps[u].Phase = max(p.Steps[u].Phase, s.Phase+1)
			finish[u] = max(finish[u], finish[i])
			if open[u]--; open[u] == 0 {
				ready = append(ready, u)
			}
		}
	}
	p.Expected = max(p.Expected, all/Parallelism)
	if placed == n {
		return ""
	}
	return findCycle(p.Steps, open)
}

// usersOf inverts the dependencies, in one allocation.
func usersOf(needs [][]int) [][]int {
	count, all := make([]int, len(needs)), 0
	for _, list := range needs {
		for _, j := range list {
			count[j]++
		}
		all += len(list)
	}
	room, out := make([]int, all), make([][]int, len(needs))
	for j, n := range count {
		out[j], room = room[:0:n], room[n:]
	}
	for i, list := range needs {
		for _, j := range list {
			out[j] = append(out[j], i)
		}
	}
	return out
}

// edges returns, for each step, the steps that it waits for.
func (b *builder) edges() [][]int {
	out := make([][]int, len(b.steps))
	link := func(step, needs int) {
		if step != needs && !slices.Contains(out[step], needs) {
			out[step] = append(out[step], needs)
		}
	}
	var dependents map[string][]string // of the recorded state, once something is deleted
	for i := range b.steps {
		s := &b.steps[i]
		if s.Change != resource.Delete {
			b.linkWanted(i, link)
			continue
		}
		if dependents == nil {
			dependents = b.dependents()
		}
		// A delete waits until no recorded dependent is left.
		b.linkDependents(i, s.Address, dependents, map[string]bool{}, link)
		if s.Kind == resource.Grant {
			// A grant that is newer than the revision is not among the recorded dependencies of the revision;
			// its code depends on it.
			for _, user := range []string{resource.Revision + "/" + s.Function, resource.Pointer + "/" + s.Function} {
				if j, ok := b.at[user]; ok {
					link(i, j)
				}
			}
		}
	}
	b.linkTakenRoutes(link)
	if len(b.renamed) > 0 {
		b.linkRenamed(link)
	}
	for i := range out {
		slices.Sort(out[i])
		if out[i] == nil {
			out[i] = []int{}
		}
	}
	return out
}

// linkRenamed makes steps of a renamed function wait for the rename.
func (b *builder) linkRenamed(link func(int, int)) {
	for i := range b.steps {
		if j, ok := b.at[resource.Identity+"/"+b.steps[i].Function]; ok && b.steps[j].RenamedFrom != "" {
			link(i, j)
		}
	}
}

// dependents returns, for each recorded address, its recorded dependents.
func (b *builder) dependents() map[string][]string {
	out := map[string][]string{}
	for i := range b.in.Record {
		r := &b.in.Record[i]
		for _, need := range r.Needs {
			out[need] = append(out[need], r.Address)
		}
	}
	return out
}

func (b *builder) linkWanted(i int, link func(int, int)) {
	// An unchanged dependency can itself depend on something that changes.
	var visit func(needs []string, depth int)
	visit = func(needs []string, depth int) {
		for _, need := range needs {
			if j, ok := b.at[need]; ok {
				link(i, j)
			} else if depth < 16 {
				visit(b.needsOf(need), depth+1)
			}
		}
	}
	visit(b.steps[i].WantNeeds, 0)
}

func (b *builder) needsOf(address string) []string {
	if w := b.wantedAt(address); w != nil {
		return w.Needs
	}
	return nil
}

func (b *builder) linkDependents(i int, address string, dependents map[string][]string,
	seen map[string]bool, link func(int, int)) {
	for _, d := range dependents[address] {
		if seen[d] {
			continue
		}
		seen[d] = true
		if j, ok := b.at[d]; ok {
			link(i, j)
		}
		b.linkDependents(i, d, dependents, seen, link)
	}
}

// linkTakenRoutes makes a route that matches requests of another wait for the one that gives them up: by
// matching, because the same requests can be written with other parameter names.
func (b *builder) linkTakenRoutes(link func(int, int)) {
	read := func(attributes map[string]any) (route.Route, bool) {
		if attributes == nil || attributes["enabled"] == false {
			return route.Route{}, false // a disabled route matches nothing
		}
		r, err := route.Parse(fmt.Sprint(attributes["method"], " ", attributes["path"]))
		return r, err == nil
	}
	given, foreign := map[string]int{}, map[string]string{} // by the key of the requests that they match
	for i := range b.in.Actual {
		l := &b.in.Actual[i]
		if l.Kind != resource.Route {
			continue
		}
		was, on := read(l.Attributes)
		step, changes := b.at[l.Address]
		switch {
		case !on:
		case !changes && b.recordedAt(l.Address) == nil:
			foreign[was.Key()] = l.Address
		case changes:
			if is, stays := read(b.steps[step].Want); !stays || is.Key() != was.Key() {
				given[was.Key()] = step
			}
		}
	}
	if len(given)+len(foreign) == 0 {
		return // no route gives up requests
	}
	for i := range b.steps {
		s := &b.steps[i]
		if s.Kind != resource.Route || s.Change == resource.Delete {
			continue
		}
		is, on := read(s.Want)
		if !on {
			continue
		}
		if step, ok := given[is.Key()]; ok && step != i {
			link(i, step)
			b.gaps = append(b.gaps, impact.Gap{Route: is.String(), From: step, To: i})
		}
		if by, taken := foreign[is.Key()]; taken && by != s.Address {
			b.blockers = append(b.blockers, Blocker{Address: s.Address, Message: fmt.Sprintf(
				"%s is already handled by %s, an unmanaged resource; delete it first", is, by)})
		}
	}
}

// findCycle follows dependencies among the steps that could not be placed until one repeats.
func findCycle(steps []Step, open []int) string {
	at := slices.IndexFunc(open, func(n int) bool { return n > 0 })
	var path []string
	seen := map[int]int{}
	for {
		if start, again := seen[at]; again {
			return strings.Join(append(path[start:], steps[at].Address), " → ")
		}
		seen[at] = len(path)
		path = append(path, steps[at].Address)
		for _, need := range steps[at].Needs {
			if open[need] > 0 {
				at = need
				break
			}
		}
	}
}
