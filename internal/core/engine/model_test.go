package engine

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/limit"
	"humblemule.example/internal/core/order"
	"humblemule.example/job"
)

// The model is what the engine promises, written as plainly as possible: a list
// of jobs and a loop over it. TestModel runs random commands on both and wants
// every answer, state and count to be the same.
type model struct {
	now    time.Time
	nextID int64
	ranks  map[string]int64
	jobs   []*mjob
	parked []*mtake
	// queues that are paused, workers that are drained, and the turns of each
	paused, drained map[string]bool
	turns           map[string]order.Turns
	// what is set for queues and tasks, and what their rates let start
	queues, tasks map[string]api.Defaults
	buckets       map[string]*limit.Bucket
	// the job that has a lane; the tags of owners, and the last that was served at a level
	lanes  map[mlane]int64
	tags   map[mturn]int64
	served map[mlevel]int64
	// schedules, the first of which has the number 1, and what has left the states in
	// which runs of one wait for each other
	schedules []*mschedule
	ended     []mended
	// removals by operations that can perhaps be undone
	removals []mremoval
}

type (
	mlane  struct{ queue, lane string }
	mlevel struct {
		queue string
		level int64
	}
	mturn struct {
		mlevel
		task, owner string
	}
	mended struct {
		job     *mjob
		state   job.State
		removed bool
	}
	mremoval struct {
		operation int64
		at        time.Time
	}
)

type mschedule struct {
	name  string
	every time.Duration
	rule  string // what a run does while an earlier one is not over
	spec  job.Spec
	next  time.Time
	// the last run, one that waits, and the one that it waits for
	last, waiting, behind int64
	failed                int64 // in a row
	doneAt                time.Time
}

type mjob struct {
	id                       int64
	task, queue, key         string
	lane, owner              string
	own                      job.Spec // what it has set itself of its policy
	dedupe                   string
	enqueuedAt               time.Time
	priority, rank           int64
	state                    job.State
	reason                   job.Reason
	round, attempt, tries    int
	most                     int
	first                    time.Duration // wait after the first failure
	giveUpAfter              time.Duration
	nextAt, readyAt, startBy time.Time
	startedAt                time.Time
	runAt                    job.Time
	payload                  string
	labels                   map[string]string
	lines, told              int // lines of all attempts, and of the running one
	percent                  float64
	keep                     *job.Duration
	result                   string
	resultUntil              time.Time
	schedule                 *mschedule
	// the live lease
	token      string
	worker     string
	length     time.Duration
	ends       time.Time
	cancelling bool
	// ended attempts by number
	attempts []mattempt
	// removed jobs are there for nobody
	removedAt time.Time
	removed   bool
	removedBy int64 // the operation; 0 where it was deleted by itself
	// releases in a row by one worker
	released   string
	releases   int
	releasedAt time.Time
}

type mattempt struct {
	token   string
	outcome job.Outcome
	lost    bool
}

type mtake struct {
	worker        string
	queues, tasks []string
	limit         int
	ahead         int // of these, how many are beyond the free slots
	weights       map[string]int
	one           int64
	length        time.Duration
	until         time.Time
	got           []int64
	answer        chan answered
}

type answered struct {
	leases []api.Lease
	err    error
}

func newModel() *model {
	return &model{
		ranks: map[string]int64{}, paused: map[string]bool{}, drained: map[string]bool{}, turns: map[string]order.Turns{},
		queues: map[string]api.Defaults{}, tasks: map[string]api.Defaults{}, buckets: map[string]*limit.Bucket{},
		lanes: map[mlane]int64{}, tags: map[mturn]int64{}, served: map[mlevel]int64{},
	}
}

// find finds a job that was not removed.
func (m *model) find(id int64) *mjob {
	if j := m.ever(id); j != nil && !j.removed {
		return j
	}
	return nil
}

func (m *model) ever(id int64) *mjob {
	if id < 1 || id > int64(len(m.jobs)) {
		return nil
	}
	return m.jobs[id-1]
}

// all gives the jobs that are there and that a test picks.
func (m *model) all(picks func(*mjob) bool) (all []*mjob) {
	for _, j := range m.jobs {
		if !j.removed && picks(j) {
			all = append(all, j)
		}
	}
	return all
}

// exists tells whether a queue was named by now.
func (m *model) exists(queue string) bool {
	_, set := m.queues[queue]
	return set || slices.ContainsFunc(m.jobs, func(j *mjob) bool { return j.queue == queue })
}

// rules are the rules of a queue, with what is built in.
func (m *model) rules(queue string) api.Rules { return m.queues[queue].Rules.WithDefaults() }

// place moves a job to where it belongs.
func (m *model) place(j *mjob) {
	holder := m.lanes[mlane{j.queue, j.lane}]
	m.placeIn(j, j.lane != "" && holder != 0 && holder != j.id)
}

// placeIn is place where it is known whether another job has its lane.
func (m *model) placeIn(j *mjob, taken bool) {
	due := m.now
	switch {
	case !j.nextAt.IsZero():
		due = j.nextAt
	case !j.readyAt.IsZero() && !j.state.Finished():
		due = j.readyAt
	}
	held := m.heldByRun(j)
	j.readyAt, j.state = time.Time{}, job.Unplaced // on its way
	switch {
	case held: // out of every order
		j.state, j.rank = job.Held, 0
		m.leaveLane(j)
	case j.nextAt.After(m.now):
		j.state = job.Scheduled
		m.leaveLane(j)
	default:
		m.rank(j, due)
		if j.nextAt = (time.Time{}); taken {
			j.state = job.Held
			return
		}
		m.enterTurn(j)
		j.state, j.readyAt = job.Ready, m.now
		if j.lane != "" {
			m.lanes[mlane{j.queue, j.lane}] = j.id
		}
	}
}

// rank gives a job its place in the order of its queue, where it has none.
func (m *model) rank(j *mjob, due time.Time) {
	if j.rank != 0 {
		return
	}
	if rules := m.rules(j.queue); rules.Order == api.OrderAgeing {
		j.rank = order.Ageing(job.At(due), int(j.priority), rules.Boost.Go())
		return
	}
	m.ranks[j.queue]++
	j.rank = m.ranks[j.queue]
}

// leaveLane gives the lane that a job has to the next one that waits for it.
func (m *model) leaveLane(j *mjob) {
	if j.lane != "" && m.lanes[mlane{j.queue, j.lane}] == j.id {
		m.passOn(mlane{j.queue, j.lane})
	}
}

func (m *model) passOn(l mlane) {
	delete(m.lanes, l)
	var next *mjob
	for _, j := range m.all(func(j *mjob) bool {
		return j.queue == l.queue && j.lane == l.lane && j.state == job.Held && j.rank != 0
	}) {
		if next == nil || j.rank < next.rank {
			next = j
		}
	}
	if next != nil {
		m.placeIn(next, false)
	}
}

// leaveLaneBy is leaveLane of a job that has failed or ended, by the rules of its queue.
func (m *model) leaveLaneBy(j *mjob) {
	rules := m.rules(j.queue)
	keeps := j.state == job.Backoff && rules.LaneOnBackoff == api.LaneWaits || j.state == job.Dead && rules.LaneOnDead == api.LaneStops
	if !keeps {
		m.leaveLane(j)
	}
}

// ready gives the ready jobs of an owner's turn.
func (m *model) ready(at mturn) []*mjob {
	return m.all(func(j *mjob) bool { return j.state == job.Ready && m.turnOf(j) == at })
}

func (m *model) turnOf(j *mjob) mturn {
	return mturn{mlevel{j.queue, m.level(j)}, j.task, j.owner}
}

func (m *model) level(j *mjob) int64 {
	if m.rules(j.queue).Order == api.OrderAgeing {
		return 0
	}
	return j.priority
}

// enterTurn gives the owner of a job that becomes ready its place among the others: that
// of before or, where it has been away for longer, of the first who waits for the same
// task, or of the one who was served last.
func (m *model) enterTurn(j *mjob) {
	at := m.turnOf(j)
	if m.rules(j.queue).Turns == "" || len(m.ready(at)) > 0 {
		return
	}
	first, waits := m.lowest(func(other mturn) bool { return other.mlevel == at.mlevel && other.task == at.task })
	if !waits {
		first = m.lastServed(at.mlevel)
	}
	m.tags[at] = order.Enter(m.tags[at], first)
}

// lowest is the lowest tag of those who wait, of those that a test picks.
func (m *model) lowest(picks func(mturn) bool) (tag int64, waits bool) {
	for turn, its := range m.tags {
		if picks(turn) && (!waits || its < tag) && len(m.ready(turn)) > 0 {
			tag, waits = its, true
		}
	}
	return tag, waits
}

// lastServed is the tag that was served last at a level: after a start of the service the
// lowest of those who wait, or the highest of those who do not.
func (m *model) lastServed(at mlevel) int64 {
	if tag, known := m.served[at]; known {
		return tag
	}
	tag, waits := m.lowest(func(turn mturn) bool { return turn.mlevel == at })
	for turn, its := range m.tags {
		if turn.mlevel == at && !waits {
			tag = max(tag, its)
		}
	}
	m.served[at] = tag
	return tag
}

// set sets a queue, and gives those that wait in it their new places.
func (m *model) set(queue string, d api.Defaults) {
	m.look(queue)
	old := m.rules(queue)
	m.queues[queue] = d
	m.look(queue)
	rules := m.rules(queue)
	if old.SameOrder(&rules) {
		return
	}
	maps.DeleteFunc(m.tags, func(at mturn, _ int64) bool { return at.queue == queue })
	for _, j := range m.all(func(j *mjob) bool {
		return j.queue == queue && (j.state == job.Ready || j.state == job.Held && j.rank != 0)
	}) {
		if rules.Order == api.OrderAgeing {
			due := j.readyAt
			if due.IsZero() {
				due = j.enqueuedAt
				if r := j.runAt.Go(); r.After(due) {
					due = r
				}
			}
			j.rank = 0
			m.rank(j, due)
		}
		if rules.Turns != "" && j.state == job.Ready {
			m.tags[m.turnOf(j)] = m.lastServed(m.turnOf(j).mlevel)
		}
	}
}

// look lets a rate's tokens come in.
func (m *model) look(queue string) (free int) {
	rate := m.rules(queue).Rate
	if rate == nil {
		return 1
	}
	if m.buckets[queue] == nil {
		m.buckets[queue] = new(limit.Bucket)
	}
	return m.buckets[queue].Free(m.now, rate.PerSecond, *rate.Burst)
}

// nextStart is when a rate lets a job start that may not now.
func (m *model) nextStart(queue string) time.Time {
	rate := m.rules(queue).Rate
	return m.now.Add(m.buckets[queue].Next(m.now, rate.PerSecond, *rate.Burst).Round(time.Millisecond))
}

// resolve gives a job its policy: its own, or what its task and its queue have.
func (m *model) resolve(j *mjob) {
	j.most, j.keep = job.DefaultMaxAttempts, nil
	var retry job.Retry
	for _, d := range []api.Defaults{m.queues[j.queue], m.tasks[j.task], {MaxAttempts: j.own.MaxAttempts, Retry: j.own.Retry, KeepResult: j.own.KeepResult}} {
		if d.MaxAttempts != nil {
			j.most = *d.MaxAttempts
		}
		if d.Retry != nil {
			retry = *d.Retry
		}
		if d.KeepResult != nil {
			j.keep = d.KeepResult
		}
	}
	retry = retry.WithDefaults()
	j.first, j.giveUpAfter = retry.First.Go(), retry.GiveUpAfter.Go()
}

// queueFor is the queue of a job: that which it names, or that of its task.
func (m *model) queueFor(task, named string) string {
	return cmp.Or(named, m.tasks[task].Queue, job.DefaultQueue)
}

func (m *model) priorityFor(j *mjob, own *int) int64 {
	for _, p := range []*int{own, m.tasks[j.task].Priority, m.queues[j.queue].Priority} {
		if p != nil {
			return int64(*p)
		}
	}
	return job.DefaultPriority
}

// earlier is the job that a dedupe lets answer for another one; nil for none.
func (m *model) earlier(task, key, dedupe string, other int64) (found *mjob) {
	for _, j := range m.jobs {
		if dedupe == "" || j.removed || j.task != task || j.key != key || j.id == other {
			continue
		}
		switch dedupe {
		case job.Unstarted, job.Unfinished:
			if !j.state.Finished() && (dedupe == job.Unfinished || j.startedAt.IsZero()) {
				found = j
			}
		default:
			d, _ := job.ParseDuration(dedupe)
			if j.state != job.Dead && j.state != job.Cancelled && j.enqueuedAt.After(m.now.Add(-d.Go())) {
				found = j
			}
		}
	}
	return found
}

// enqueue makes a job, or finds the earlier one that answers for it.
func (m *model) enqueue(s job.Spec) *mjob {
	if found := m.earlier(s.Task, s.Key, s.Dedupe, 0); found != nil {
		return found
	}
	return m.add(s, nil)
}

// add makes a job, of a schedule where it is not nil.
func (m *model) add(s job.Spec, of *mschedule) *mjob {
	m.nextID++
	j := &mjob{
		id: m.nextID, task: s.Task, queue: m.queueFor(s.Task, s.Queue), key: s.Key, dedupe: s.Dedupe, lane: s.Lane, owner: s.Owner,
		own: s, enqueuedAt: m.now, round: 1, labels: map[string]string{}, schedule: of,
	}
	j.priority = m.priorityFor(j, s.Priority)
	m.resolve(j)
	if s.StartBy != 0 {
		j.startBy = s.StartBy.Go().Local()
	}
	if s.Delay > 0 {
		j.nextAt = m.now.Add(s.Delay.Go())
		j.runAt = job.At(j.nextAt)
	}
	j.payload = string(s.Payload)
	m.place(j)
	if m.jobs = append(m.jobs, j); of != nil {
		of.last = j.id
	}
	return j
}

// backoff is 2.5 times longer each time, to at most 8 hours; the test draws no
// jitter.
func (j *mjob) backoff() time.Duration {
	d := float64(j.first)
	for range j.tries - 1 {
		d = min(d*2.5, float64(8*time.Hour))
	}
	return time.Duration(d).Truncate(time.Millisecond)
}

func (m *model) finish(j *mjob, s job.State, r job.Reason) {
	j.state, j.reason, j.nextAt = s, r, time.Time{}
	m.left(j)
	m.leaveLaneBy(j)
}

// left notes that a job waits for its next attempt, or has ended.
func (m *model) left(j *mjob) { m.ended = append(m.ended, mended{job: j, state: j.state}) }

// remove takes a job out of everything.
func (m *model) remove(j *mjob, operation int64) {
	if !j.state.Finished() {
		m.ended = append(m.ended, mended{j, j.state, true})
	}
	j.removed, j.removedAt, j.removedBy = true, m.now, operation
	m.leaveLane(j)
}

// bringBack takes back a removal.
func (m *model) bringBack(j *mjob) {
	if j.removed = false; !j.state.Finished() && j.state != job.Backoff {
		m.place(j)
	}
}

// end ends a live lease.
func (m *model) end(j *mjob, o job.Outcome, delay time.Duration, lost bool) {
	j.attempts = append(j.attempts, mattempt{j.token, o, lost})
	j.token = ""
	if o == job.OutcomePostponed || o == job.OutcomeReleased {
		j.tries--
	}
	if j.cancelling && o != job.OutcomeDone {
		m.finish(j, job.Cancelled, job.Asked)
		return
	}
	switch o {
	case job.OutcomeDone:
		m.finish(j, job.Done, "")
		j.result, j.resultUntil = fmt.Sprint(j.id), time.Time{}
		if j.keep != nil {
			j.resultUntil = m.now.Add(j.keep.Go())
		}
	case job.OutcomeSkipped:
		m.finish(j, job.Skipped, job.SaidByHandler)
	case job.OutcomeGiveUp:
		m.finish(j, job.Dead, job.GaveUp)
	case job.OutcomePostponed:
		j.rank = 0
		m.wait(j, job.Scheduled, delay)
		m.leaveLane(j)
	case job.OutcomeReleased:
		m.release(j)
	case job.OutcomeFailed:
		d := cmp.Or(delay, j.backoff())
		switch {
		case j.most > 0 && j.tries >= j.most:
			m.finish(j, job.Dead, job.AttemptsUsedUp)
		case j.giveUpAfter > 0 && m.now.Add(d).After(j.startedAt.Add(j.giveUpAfter)):
			m.finish(j, job.Dead, job.TooOld)
		default:
			j.rank = 0
			m.wait(j, job.Backoff, d)
			m.left(j)
			m.leaveLaneBy(j)
		}
	}
}

func (m *model) wait(j *mjob, s job.State, d time.Duration) {
	j.state, j.nextAt, j.readyAt = s, m.now.Add(d), time.Time{}
}

func (m *model) release(j *mjob) {
	if j.released != j.worker || m.now.Sub(j.releasedAt) > 10*time.Second {
		j.released, j.releases, j.releasedAt = j.worker, 0, m.now
	}
	j.releases++
	if j.releases >= 3 {
		j.released, j.releases = "", 0
		m.wait(j, job.Scheduled, 5*time.Second)
		return
	}
	m.place(j)
}

// takeBack ends a lease that an operator takes away.
func (m *model) takeBack(j *mjob, freeLane bool) {
	j.attempts = append(j.attempts, mattempt{j.token, job.OutcomeReleased, false})
	j.token = ""
	j.tries--
	switch {
	case j.cancelling:
		m.finish(j, job.Cancelled, job.Asked)
	case j.lane != "" && !freeLane: // its handler may still run
		m.wait(j, job.Scheduled, j.ends.Sub(m.now))
	default:
		m.place(j)
	}
}

// running counts the running jobs of a queue, or of a task.
func (m *model) running(queue, task string) int {
	return len(m.all(func(j *mjob) bool {
		return j.state == job.Running && (j.queue == queue || queue == "") && (j.task == task || task == "")
	}))
}

// mayStart tells whether the limits of a queue let a job start.
func (m *model) mayStart(queue string) bool {
	return !m.full(queue) && m.look(queue) > 0
}

func (m *model) full(queue string) bool {
	most := m.queues[queue].MaxRunning
	return most != nil && m.running(queue, "") >= *most
}

func (m *model) taskFull(task string) bool {
	most := m.tasks[task].MaxRunning
	return most != nil && m.running("", task) >= *most
}

// best is the ready job that goes first for a take.
func (m *model) best(t *mtake) *mjob {
	if m.drained[t.worker] {
		return nil
	}
	if t.one != 0 {
		j := m.find(t.one)
		if j == nil || j.state != job.Ready || m.paused[j.queue] || !m.mayStart(j.queue) || m.taskFull(j.task) || len(t.got) > 0 {
			return nil
		}
		return j
	}
	firsts := map[string]*mjob{}
	var open []string
	for _, q := range t.queues {
		rules := m.rules(q)
		if m.paused[q] || !m.mayStart(q) || (rules.MaxRunning != nil || rules.Rate != nil) && len(t.got) >= t.limit-t.ahead {
			continue
		}
		if first := m.firstOf(q, t.tasks); first != nil {
			open, firsts[q] = append(open, q), first
		}
	}
	switch {
	case len(open) == 0:
		return nil
	case t.weights == nil:
		return firsts[open[0]]
	}
	if m.turns[t.worker] == nil {
		m.turns[t.worker] = order.Turns{}
	}
	return firsts[m.turns[t.worker].Next(open, func(q string) int { return max(t.weights[q], 1) })]
}

// firstOf is the ready job of a queue that goes first: of each task the first one by its
// level, its owner's turn and its rank; and of these the first one.
func (m *model) firstOf(queue string, tasks []string) *mjob {
	heads := map[string]*mjob{}
	turns := m.rules(queue).Turns != ""
	for _, j := range m.all(func(j *mjob) bool { return j.queue == queue && j.state == job.Ready }) {
		if len(tasks) > 0 && !slices.Contains(tasks, j.task) || m.taskFull(j.task) {
			continue
		}
		if h := heads[j.task]; h == nil || m.before(j, h, turns, true) {
			heads[j.task] = j
		}
	}
	var first *mjob
	for _, h := range heads {
		if first == nil || m.before(h, first, turns, false) {
			first = h
		}
	}
	return first
}

// before tells which of two jobs of a queue goes first. Owners of one task whose turns are
// equal go by their names.
func (m *model) before(a, b *mjob, turns, byName bool) bool {
	by := cmp.Compare(m.level(b), m.level(a))
	if turns {
		by = cmp.Or(by, cmp.Compare(m.tags[m.turnOf(a)], m.tags[m.turnOf(b)]))
		if byName {
			by = cmp.Or(by, cmp.Compare(a.owner, b.owner))
		}
	}
	return cmp.Or(by, cmp.Compare(a.rank, b.rank), cmp.Compare(a.id, b.id)) < 0
}

// start leases a job to a take.
func (m *model) start(j *mjob, t *mtake) {
	if rules := m.rules(j.queue); rules.Turns != "" {
		at := m.turnOf(j)
		m.served[at.mlevel] = m.tags[at]
		m.tags[at] = order.Served(m.tags[at], rules.Weight(j.owner))
	}
	if m.look(j.queue); m.rules(j.queue).Rate != nil {
		m.buckets[j.queue].Take(1)
	}
	j.state, j.worker, j.length, j.ends = job.Running, t.worker, t.length, m.now.Add(t.length)
	j.attempt++
	j.tries++
	j.told, j.percent = 0, -1
	if j.startedAt.IsZero() {
		j.startedAt = m.now
	}
	t.got = append(t.got, j.id)
}

// deal leases one job at a time round the takes.
func (m *model) deal(takes []*mtake) {
	for open := slices.Clone(takes); len(open) > 0; {
		open = slices.DeleteFunc(open, func(t *mtake) bool {
			j := m.best(t)
			if j == nil {
				return true
			}
			m.start(j, t)
			return len(t.got) == t.limit
		})
	}
}

// settled lets runs go whose time it is by now, deals to parked takes and drops those that
// were served.
func (m *model) settled() (served []*mtake) {
	m.letRunsGo()
	m.deal(m.parked)
	m.parked = slices.DeleteFunc(m.parked, func(t *mtake) bool {
		if len(t.got) > 0 {
			served = append(served, t)
		}
		return len(t.got) > 0
	})
	return served
}

// next is the next moment at which something happens by itself, until a time.
func (m *model) next(until time.Time) time.Time {
	sooner := func(at time.Time) {
		if at.Before(until) {
			until = at
		}
	}
	for _, s := range m.schedules {
		sooner(s.next)
	}
	for _, j := range m.jobs {
		switch {
		case j.removed:
		case j.state == job.Scheduled || j.state == job.Backoff:
			sooner(j.nextAt)
		case j.state == job.Running:
			sooner(j.ends)
		}
		if m.unstarted(j) {
			sooner(j.startBy)
		}
	}
	for _, t := range m.parked {
		sooner(t.until)
		for _, q := range t.queues {
			if !m.paused[q] && !m.full(q) && m.look(q) == 0 {
				sooner(m.nextStart(q))
			}
		}
	}
	return until
}

// unstarted tells whether a job must be started by a time.
func (m *model) unstarted(j *mjob) bool {
	return !j.removed && !j.startBy.IsZero() && j.startedAt.IsZero() && (j.state == job.Held || j.state == job.Scheduled || j.state == job.Ready)
}

// happen does what happens by itself now: leases end, jobs are due, schedules enqueue, and
// what was not started in time is skipped.
func (m *model) happen() {
	for _, j := range m.all(func(j *mjob) bool { return j.state == job.Running && !j.ends.After(m.now) }) {
		m.end(j, job.OutcomeFailed, 0, true)
	}
	due := m.all(func(j *mjob) bool {
		return (j.state == job.Scheduled || j.state == job.Backoff) && !j.nextAt.After(m.now)
	})
	slices.SortFunc(due, func(a, b *mjob) int { return cmp.Or(a.nextAt.Compare(b.nextAt), cmp.Compare(a.id, b.id)) })
	for _, j := range due {
		m.place(j)
	}
	for _, s := range m.schedules {
		for ; !s.next.After(m.now); s.next = s.next.Add(s.every) {
			m.run(s)
		}
	}
	for _, j := range m.all(func(j *mjob) bool { return m.unstarted(j) && !j.startBy.After(m.now) }) {
		m.finish(j, job.Skipped, job.TooLate)
	}
}

// unfinished gives the first run of a schedule, but one, that is held, or that is under way.
func (m *model) unfinished(s *mschedule, but int64, held bool) *mjob {
	for _, j := range m.jobs {
		if !j.removed && j.schedule == s && j.id != but && !j.state.Finished() && (j.state == job.Held) == held {
			return j
		}
	}
	return nil
}

// run enqueues a run of a schedule, where its rule lets it come.
func (m *model) run(s *mschedule) (came bool) {
	behind, blocked := m.lastRun(s)
	if blocked {
		return false
	}
	if behind != 0 {
		s.waiting, s.behind = m.nextID+1, behind
	}
	m.add(s.spec, s)
	return true
}

// lastRun tells what a run would wait for, or that it cannot come.
func (m *model) lastRun(s *mschedule) (behind int64, blocked bool) {
	if s.rule == api.RunsAlso || s.last == 0 {
		return 0, false
	}
	last := m.find(s.last)
	if last == nil || last.state.Finished() {
		if m.unfinished(s, 0, true) != nil {
			return 0, true
		}
		if last = m.unfinished(s, 0, false); last == nil {
			return 0, false
		}
	}
	switch {
	case last.state == job.Backoff:
		m.supersede(s, last)
		return 0, false
	case s.rule == api.RunSkips || last.state == job.Held:
		return 0, true
	}
	return last.id, false
}

// supersede makes a run dead whose place the next one takes; of these 20 stay dead.
func (m *model) supersede(s *mschedule, j *mjob) {
	m.finish(j, job.Dead, job.Superseded)
	dead := m.all(func(j *mjob) bool { return j.schedule == s && j.state == job.Dead && j.reason == job.Superseded })
	for _, old := range dead[:max(len(dead)-20, 0)] {
		m.finish(old, job.Cancelled, job.Superseded)
	}
}

// heldByRun tells whether a run waits for another one of its schedule.
func (m *model) heldByRun(j *mjob) bool {
	s := j.schedule
	switch {
	case s == nil || s.rule == api.RunsAlso:
		return false
	case s.waiting == j.id:
		return true
	case s.last == j.id && j.round == 1:
		return false
	case m.unfinished(s, j.id, false) != nil:
		return true
	}
	held := m.unfinished(s, j.id, true)
	return held != nil && held.id < j.id && j.state != job.Held
}

// letRunsGo lets runs go on that waited for the end of those that have ended.
func (m *model) letRunsGo() {
	for len(m.ended) > 0 {
		was := m.ended[0]
		m.ended = m.ended[1:]
		s, j := was.job.schedule, was.job
		if s == nil {
			continue
		}
		switch {
		case was.removed:
		case was.state == job.Done:
			s.failed, s.doneAt = 0, m.now
		case was.state == job.Dead:
			s.failed++
		}
		over := was.state.Finished() || was.removed
		switch {
		case j.id != s.waiting && (s.waiting == 0 || j.id != s.behind): // perhaps one that was requeued may go
			if held := m.unfinished(s, s.waiting, true); over && held != nil && s.rule != api.RunsAlso {
				m.place(held)
			}
		case j.id == s.waiting:
			s.last, s.waiting, s.behind = s.behind, 0, 0
		case over && m.unfinished(s, s.waiting, false) != nil:
			s.behind = m.unfinished(s, s.waiting, false).id
		default:
			waiting := m.find(s.waiting)
			if s.waiting, s.behind = 0, 0; was.state == job.Backoff && !was.removed {
				m.supersede(s, j)
			}
			if waiting != nil && waiting.state == job.Held { // it did not go together with the other
				m.place(waiting)
			}
		}
	}
}

// anew gives a finished job a new round.
func (m *model) anew(j *mjob) {
	j.round++
	j.tries, j.reason, j.startedAt, j.startBy, j.cancelling, j.rank = 0, "", time.Time{}, time.Time{}, false, 0
	j.runAt, j.result = 0, ""
	m.resolve(j)
	m.place(j)
}
