package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// knot is a job of the trial of jobs that wait for others, as it has to stand.
type knot struct {
	id    int64
	rule  job.After
	edges map[*knot]job.EdgeState
	// state is Unplaced while it is unfinished; kept tells that its handler has skipped it.
	state job.State
	kept  bool
	// removedAt is when it was removed; gone tells that it was swept.
	removedAt time.Time
	gone      bool
	runs      int
	at        time.Time // before which it does not start
	in        *bundle
	last      bool // of its batch, and waits for the others
}

// bundle is a batch of the trial.
type bundle struct {
	id   int64
	open bool
	jobs []*knot
}

type ties struct {
	*yard
	random *rand.Rand
	all    []*knot
	bundle []*bundle
}

// met tells whether a job has ended as a rule asks for.
func (k *knot) met(r job.After) bool {
	return r.When == job.WhenFinished && k.state != job.Unplaced || k.state == job.Done || k.kept
}

func (k *knot) removed() bool { return !k.removedAt.IsZero() }

func (k *knot) unmet() (n int) {
	for _, e := range k.edges {
		if e == job.EdgeUnmet {
			n++
		}
	}
	return n
}

// stands is the state in which it has to be.
func (k *knot) stands() job.State {
	switch {
	case k.state != job.Unplaced:
		return k.state
	case k.unmet() > 0 || k.last:
		return job.Held
	case time.Now().Before(k.at):
		return job.Scheduled
	}
	return job.Ready
}

func (k *knot) held() bool { return k.stands() == job.Held }

// ended is what the end of a job means to those that wait for it.
func (x *ties) ended(k *knot) {
	for _, w := range x.all {
		if w.edges[k] != job.EdgeUnmet {
			continue
		}
		switch {
		case k.met(w.rule):
			w.edges[k] = job.EdgeMet
		case w.rule.IfNot == job.IfNotCancel && w.state == job.Unplaced && !w.removed():
			w.state = job.Cancelled
			x.ended(w)
		}
	}
}

// failing tells whether a job waits for one that has ended otherwise, and is to be cancelled then.
func (k *knot) failing() bool {
	if k.rule.IfNot != job.IfNotCancel {
		return false
	}
	for n, e := range k.edges {
		if e == job.EdgeUnmet && n.state != job.Unplaced && !n.removed() && !n.gone {
			return true
		}
	}
	return false
}

// judge lets the last jobs of batches go, or cancels them.
func (x *ties) judge() {
	for changed := true; changed; {
		changed = false
		for _, b := range x.bundle {
			last := b.jobs[0]
			if !last.last || last.state != job.Unplaced || last.removed() {
				continue
			}
			unfinished, missed := 0, 0
			for _, k := range b.jobs[1:] {
				switch {
				case k.state == job.Unplaced && !k.gone:
					unfinished++
				case k.state != job.Done && !k.kept:
					missed++
				}
			}
			switch {
			case missed > 0 && last.rule.IfNot == job.IfNotCancel:
				last.state, changed = job.Cancelled, true
				x.ended(last)
			case !b.open && unfinished == 0 && (missed == 0 || last.rule.When == job.WhenFinished):
				last.last, changed = false, true
			}
		}
	}
}

// rule draws how a job waits for others.
func (x *ties) rule() job.After {
	return []job.After{{}, {IfNot: job.IfNotCancel}, {When: job.WhenFinished}}[x.random.IntN(3)]
}

// some draws up to n jobs that are there.
func (x *ties) some(n int, of func(*knot) bool) (all []*knot) {
	for range n {
		if k := x.one(of); k != nil && !slices.Contains(all, k) {
			all = append(all, k)
		}
	}
	return all
}

func (x *ties) one(of func(*knot) bool) *knot {
	var fit []*knot
	for _, k := range x.all {
		if !k.gone && of(k) {
			fit = append(fit, k)
		}
	}
	if len(fit) == 0 {
		return nil
	}
	return fit[x.random.IntN(len(fit))]
}

func there(k *knot) bool { return !k.removed() }

// later draws that a job has a delay; never one that ends just when the trial looks.
func (x *ties) later(k *knot, s *job.Spec) {
	if x.random.IntN(4) != 0 {
		return
	}
	s.Delay = job.For(time.Duration(1+x.random.IntN(10))*time.Minute + 7*time.Millisecond)
	k.at = time.Now().Add(s.Delay.Go())
}

// tie lets a new job wait for others, of which some may have ended.
func (x *ties) tie(k *knot, needs []*knot) {
	k.edges = map[*knot]job.EdgeState{}
	for _, n := range needs {
		k.edges[n] = job.EdgeUnmet
		if n.state != job.Unplaced && n.met(k.rule) {
			k.edges[n] = job.EdgeMet
		}
	}
	x.all = append(x.all, k)
	if k.failing() {
		k.state = job.Cancelled
		x.ended(k)
	}
}

func (x *ties) enqueue() {
	k, needs := &knot{rule: x.rule()}, x.some(x.random.IntN(4), there)
	s := job.Spec{Task: "tide.predict"}
	x.later(k, &s)
	if len(needs) > 0 {
		rule := k.rule
		for _, n := range needs {
			rule.Jobs = append(rule.Jobs, n.id)
		}
		s.After = &rule
	}
	told, err := x.e.Enqueue(context.Background(), s)
	require.NoError(x, err)
	k.id = told.ID
	x.tie(k, needs)
}

// members draws jobs of a batch, which wait for ones before them in their order, and for others.
func (x *ties) members() (jobs []api.BatchJob, knots []*knot, needs [][]*knot) {
	for i := range 1 + x.random.IntN(6) {
		k := &knot{rule: x.rule()}
		j := api.BatchJob{Ref: fmt.Sprint("r", len(x.all)+i), Spec: job.Spec{Task: "manifest.check"}}
		x.later(k, &j.Spec)
		rule := k.rule
		var of []*knot
		for at := range i {
			if x.random.IntN(3) == 0 {
				rule.Refs, of = append(rule.Refs, jobs[at].Ref), append(of, knots[at])
			}
		}
		if x.random.IntN(4) == 0 {
			for _, n := range x.some(2, there) {
				rule.Jobs, of = append(rule.Jobs, n.id), append(of, n)
			}
		}
		if len(of) > 0 {
			j.After = &rule
		}
		jobs, knots, needs = append(jobs, j), append(knots, k), append(needs, of)
	}
	return jobs, knots, needs
}

func (x *ties) makeBatch() {
	jobs, knots, needs := x.members()
	last := &knot{rule: x.rule(), last: true, edges: map[*knot]job.EdgeState{}}
	open := x.random.IntN(2) == 0
	told, err := x.e.MakeBatch(context.Background(), api.NewBatch{Open: open, Jobs: jobs, Last: &job.Spec{Task: "notice.publish", After: &last.rule}}, atMember)
	require.NoError(x, err)
	b := &bundle{id: told.ID, open: open, jobs: []*knot{last}}
	last.in, last.id = b, told.Last
	x.bundle, x.all = append(x.bundle, b), append(x.all, last)
	x.join(b, told.IDs, knots, needs)
}

func (x *ties) join(b *bundle, ids []int64, knots []*knot, needs [][]*knot) {
	b.jobs = append(b.jobs, knots...)
	for i, k := range knots {
		k.in, k.id = b, ids[i]
		x.tie(k, needs[i])
	}
}

func (x *ties) add() {
	if len(x.bundle) == 0 {
		return
	}
	b := x.bundle[x.random.IntN(len(x.bundle))]
	if x.random.IntN(3) == 0 {
		_, err := x.e.CloseBatch(context.Background(), b.id)
		if errors.Is(err, job.ErrNotFound) {
			return
		}
		require.NoError(x, err)
		b.open = false
		return
	}
	jobs, knots, needs := x.members()
	told, err := x.e.AddToBatch(context.Background(), b.id, jobs, atMember)
	if !b.open {
		require.Error(x, err)
		return
	}
	require.NoError(x, err)
	x.join(b, told.IDs, knots, needs)
}

// run has a ready job end.
func (x *ties) run() {
	k := x.one(func(k *knot) bool { return there(k) && k.stands() == job.Ready })
	if k == nil {
		return
	}
	for n, e := range k.edges {
		require.NotEqual(x, job.EdgeUnmet, e, "job %d starts before job %d", k.id, n.id)
	}
	k.runs++
	switch outcome := []job.Outcome{job.OutcomeDone, job.OutcomeDone, job.OutcomeSkipped, job.OutcomeGiveUp}[x.random.IntN(4)]; outcome {
	case job.OutcomeDone:
		if k.in != nil && k.in.jobs[0] != k && x.random.IntN(4) == 0 {
			x.endAdding(k)
			break
		}
		x.end(k.id, outcome, `{"of":1}`)
		k.state = job.Done
	case job.OutcomeSkipped:
		x.end(k.id, outcome, "")
		k.state, k.kept = job.Skipped, true
	default:
		x.end(k.id, outcome, "")
		k.state = job.Dead
	}
	x.ended(k)
}

// endAdding has a job of a batch end that adds others to it.
func (x *ties) endAdding(k *knot) {
	ctx := context.Background()
	jobs, knots, needs := x.members()
	a, err := x.e.Lease(ctx, api.LeaseRequest{Worker: x.worker, Job: k.id, Limit: 1})
	require.NoError(x, err)
	require.Len(x, a.Leases, 1)
	s := api.Settlement{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}
	for _, j := range jobs {
		s.Enqueue = append(s.Enqueue, api.FollowUp{Spec: j.Spec, Ref: j.Ref, Join: true})
	}
	res, err := x.e.Settle(ctx, []api.Settlement{s})
	require.NoError(x, err)
	require.Empty(x, res[0].Errors)
	page, err := x.e.Jobs(ctx, api.Filter{Batch: k.in.id, Order: api.NewestFirst, Limit: len(jobs)})
	require.NoError(x, err)
	ids := make([]int64, len(jobs))
	for i, j := range page.Jobs {
		ids[len(jobs)-1-i] = j.ID
	}
	k.state = job.Done
	x.join(k.in, ids, knots, needs)
}

func (x *ties) act() {
	ctx, k := context.Background(), x.one(there)
	if k == nil {
		return
	}
	switch n := x.random.IntN(6); {
	case n == 0 && k.state == job.Unplaced:
		x.must(x.e.Cancel(ctx, k.id))
		k.state = job.Cancelled
		x.ended(k)
	case n == 1 && (k.held() || k.stands() == job.Scheduled):
		x.must(x.e.StartNow(ctx, k.id))
		x.drop(k)
		k.at = time.Time{}
	case n <= 3 && k.state != job.Unplaced:
		ignore := x.random.IntN(4) == 0
		_, err := x.e.Requeue(ctx, k.id, api.Requeue{IgnoreAfter: ignore})
		if k.failing() && !ignore {
			require.Error(x, err)
			return
		}
		require.NoError(x, err)
		k.state, k.kept, k.at = job.Unplaced, false, time.Time{}
		if ignore {
			x.drop(k)
		}
	case n == 4 && k.state != job.Unplaced:
		x.must(x.e.Discard(ctx, k.id))
		k.removedAt = time.Now()
	case n == 5 && k.state == job.Unplaced:
		x.purge(k.stands())
	}
}

// purge removes all jobs that are in a state, and may bring them back.
func (x *ties) purge(state job.State) {
	ctx := context.Background()
	o, err := x.e.Act(ctx, api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"common"}, States: []job.State{state}}})
	require.NoError(x, err)
	require.Empty(x, o.Refused)
	var gone []*knot
	for _, k := range x.all {
		if there(k) && !k.gone && k.stands() == state {
			k.removedAt = time.Now()
			gone = append(gone, k)
		}
	}
	if x.random.IntN(3) == 0 {
		return
	}
	x.run() // what it means to those that are removed is found out when they come back
	x.judge()
	time.Sleep(50 * time.Millisecond)
	x.must(x.e.UndoOperation(ctx, o.ID))
	for _, k := range gone {
		if k.removedAt = (time.Time{}); k.failing() {
			k.state = job.Cancelled
			x.ended(k)
		}
	}
}

func (x *ties) drop(k *knot) {
	for n, e := range k.edges {
		if e == job.EdgeUnmet {
			k.edges[n] = job.EdgeDropped
		}
	}
	k.last = false
}

// restore brings a discarded job back.
func (x *ties) restore() {
	k := x.one(func(k *knot) bool { return k.removed() && k.state != job.Unplaced })
	if k == nil {
		return
	}
	x.must(x.e.Undiscard(context.Background(), k.id))
	k.removedAt = time.Time{}
}

// pass lets time pass, in which removed jobs are swept.
func (x *ties) pass(d time.Duration) {
	time.Sleep(d)
	for _, k := range x.all {
		if !k.removed() || k.gone || time.Since(k.removedAt) < 10*time.Minute {
			continue
		}
		if k.gone = true; k.state != job.Unplaced {
			continue
		}
		k.state = job.Cancelled
		x.ended(k)
		k.state = job.Unplaced // it is counted so, and never was
	}
}

func (x *ties) step() {
	switch n := x.random.IntN(20); {
	case n < 4:
		x.enqueue()
	case n < 6:
		x.makeBatch()
	case n < 8:
		x.add()
	case n < 13:
		x.run()
	case n < 16:
		x.act()
	case n < 17:
		x.restore()
	case n < 18:
		x.pass(time.Duration(x.random.IntN(8)) * time.Minute)
	case n < 19 && x.random.IntN(5) == 0:
		require.NoError(x, x.e.Close())
		x.open()
	}
	x.judge()
}

// compare holds all jobs against what they have to be.
func (x *ties) compare() {
	for _, k := range x.all {
		j, err := x.e.Job(context.Background(), k.id)
		if k.removed() || k.gone {
			require.ErrorIs(x, err, job.ErrNotFound, "job %d was removed", k.id)
			continue
		}
		require.NoError(x, err)
		require.Equal(x, k.stands().String(), j.State.String(), "job %d: %s; edges %v", k.id, j.Summary, j.WaitsFor)
		require.Equal(x, k.runs, j.Attempt, "job %d", k.id)
	}
}

// Jobs that wait for others in random graphs, and in batches, go on when they may and never before,
// whatever ends, is done again, removed or brought back, and over restarts.
func TestTies(t *testing.T) {
	for seed := range uint64(rounds(20, 3)) {
		inYard(t, func(y *yard) {
			x := &ties{yard: y, random: rand.New(rand.NewPCG(6853, seed))}
			for n := range 150 {
				x.step()
				time.Sleep(50 * time.Millisecond)
				if n%10 == 9 {
					x.compare()
				}
				if n%50 == 49 {
					tablesAgree(y.T, y.e)
				}
				if t.Failed() {
					t.Fatalf("after %d steps of seed %d", n+1, seed)
				}
			}
			x.pass(11 * time.Minute)
			x.judge()
			time.Sleep(time.Second)
			x.compare()
			tablesAgree(y.T, y.e)
		})
	}
}
