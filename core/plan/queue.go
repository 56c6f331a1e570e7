package plan

import "container/heap"

// Queue returns the steps of a plan in the order in which a deployment sends them: a step once its dependencies
// are done, and of those the one with the longest path behind it, so the last step ends as early as possible.
// It is not safe for concurrent use.
type Queue struct {
	steps []Step
	open  []int   // number of unfinished dependencies of each step
	users [][]int // dependents of each step
	left  []int64 // milliseconds from its start to the end of the longest path behind it
	ready readySteps
}

// NewQueue starts with the unfinished steps.
func NewQueue(steps []Step, done func(i int) bool) *Queue {
	n := len(steps)
	q := &Queue{steps: steps, open: make([]int, n), users: make([][]int, n), left: make([]int64, n)}
	finished := make([]bool, len(steps))
	for i := range steps {
		finished[i] = done(i)
	}
	for i := range steps {
		for _, need := range steps[i].Needs {
			if !finished[need] {
				q.open[i]++
				q.users[need] = append(q.users[need], i)
			}
		}
	}
	q.reckon()
	q.ready.left = q.left
	for i := range steps {
		if !finished[i] && q.open[i] == 0 {
			q.ready.steps = append(q.ready.steps, i)
		}
	}
	heap.Init(&q.ready)
	return q
}

// reckon fills in how long the way behind each step is, from the last steps back.
func (q *Queue) reckon() {
	waits := make([]int, len(q.steps)) // dependents whose path length is not known yet
	var known []int
	for i := range q.steps {
		if waits[i] = len(q.users[i]); waits[i] == 0 {
			known = append(known, i)
		}
	}
	for len(known) > 0 {
		i := known[len(known)-1]
		known = known[:len(known)-1]
		q.left[i] += max(q.steps[i].Expected, 1) // each step counts, too
		for _, need := range q.steps[i].Needs {
			q.left[need] = max(q.left[need], q.left[i])
			if waits[need]--; waits[need] == 0 {
				known = append(known, need)
			}
		}
	}
}

// Next removes and returns the next step; false if none can be sent now.
func (q *Queue) Next() (int, bool) {
	if len(q.ready.steps) == 0 {
		return 0, false
	}
	i, _ := heap.Pop(&q.ready).(int)
	return i, true
}

// Done marks a step as done, so steps that waited only for it are ready.
func (q *Queue) Done(i int) {
	for _, user := range q.users[i] {
		if q.open[user]--; q.open[user] == 0 {
			heap.Push(&q.ready, user)
		}
	}
}

// readySteps is a heap of steps, the one with the longest path behind it first.
type readySteps struct {
	steps []int
	left  []int64
}

func (r *readySteps) Len() int { return len(r.steps) }
func (r *readySteps) Less(i, j int) bool {
	a, b := r.steps[i], r.steps[j]
	if r.left[a] != r.left[b] {
		return r.left[a] > r.left[b]
	}
	return a < b
}
func (r *readySteps) Swap(i, j int) { r.steps[i], r.steps[j] = r.steps[j], r.steps[i] }

// Push adds a step, as heap.Push wants it.
func (r *readySteps) Push(step any) {
	i, _ := step.(int)
	r.steps = append(r.steps, i)
}

// Pop removes the last step, as heap.Pop requires.
func (r *readySteps) Pop() any {
	last := r.steps[len(r.steps)-1]
	r.steps = r.steps[:len(r.steps)-1]
	return last
}
