package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// mostNames bounds the queues, and the tasks, of one service.
const mostNames = 10_000

// newJob is a checked spec in the shape in which it is stored.
type newJob struct {
	task, policy string // policy is what the spec alone makes
	delay        job.Duration
	row          store.Row
	spec         *job.Spec
	// earlier is the job that answers for it, where its dedupe has found one.
	earlier  *store.Row
	sameSpec bool
}

var defaultPolicy = policyBody((&job.Spec{}).Policy())

func policyBody(p job.Policy) string {
	body, err := json.Marshal(p)
	if err != nil {
		panic(fmt.Sprintf("a policy is always JSON: %v", err))
	}
	return string(body)
}

// prepare shapes a checked spec. It needs no transaction.
func prepare(s *job.Spec) (*newJob, error) {
	payload, err := s.PayloadJSON()
	if err != nil {
		return nil, err
	}
	n := &newJob{task: s.Task, policy: defaultPolicy, delay: s.Delay, spec: s}
	if s.MaxAttempts != nil || s.Retry != nil || s.Timeout != 0 || s.KeepResult != nil {
		n.policy = policyBody(s.Policy())
	}
	n.row = store.Row{
		Round: 1, RunAt: s.RunAt, StartBy: s.StartBy, PayloadBytes: len(payload),
		Owner: s.Owner, Lane: s.Lane, Key: s.Key, Dedupe: s.Dedupe, Traceparent: s.Traceparent, Payload: payload,
	}
	if len(s.Labels) > 0 {
		labels, err := json.Marshal(s.Labels)
		if err != nil {
			return nil, err
		}
		n.row.Labels = string(labels)
	}
	return n, nil
}

// Enqueue takes a job in and answers it as it stands then.
func (e *Engine) Enqueue(ctx context.Context, s job.Spec) (job.Job, error) {
	if err := job.Wrong("the job was not taken in", s.Check(e.opts.MaxPayload)); err != nil {
		return job.Job{}, err
	}
	n, err := prepare(&s)
	if err != nil {
		return job.Job{}, err
	}
	id := identify(callOf(ctx))
	var row store.Row
	err = e.do(ctx, func(tx *txn) error {
		n.earlier = nil
		r, err := tx.replayed(id)
		if err != nil {
			return err
		}
		if r != nil {
			return tx.replayRow(r, &row)
		}
		if err := tx.canTakeIn("the job was not taken in", nowhere, n); err != nil {
			return err
		}
		if err := tx.insert(n); err != nil {
			return err
		}
		if row = n.row; n.earlier != nil {
			row = *n.earlier
		}
		tx.note(id, row.ID)
		return nil
	})
	if err != nil {
		return job.Job{}, err
	}
	if n.earlier != nil && n.earlier.Queue == 0 {
		return job.Job{ID: row.ID, Task: s.Task, Key: s.Key, State: row.State, EnqueuedAt: row.EnqueuedAt, Duplicate: true}, nil
	}
	if n.earlier != nil {
		j, err := e.Job(ctx, row.ID)
		j.Duplicate, j.SameSpec = true, n.sameSpec
		return j, err
	}
	return e.tellWarned(&row)
}

// tellWarned tells a row with what is likely not meant in its policy.
func (e *Engine) tellWarned(r *store.Row) (job.Job, error) {
	j, err := e.tell(r)
	if err == nil {
		j.Warnings = (&job.Policy{MaxAttempts: j.MaxAttempts, Retry: *j.Retry}).Warned()
		if w := e.unservedAt([2]string{j.Queue, j.Task}); w != nil {
			j.Warnings = append(j.Warnings, *w)
		}
	}
	return j, err
}

// replayRow reads the row of a replayed call.
func (tx *txn) replayRow(r *receipt, row *store.Row) error {
	found, err := tx.e.store.Row(r.ids[0])
	if err == nil && found == nil {
		err = job.Fault(job.NotFound, "the same call has taken effect before, on job %d, which has been removed since", r.ids[0])
	}
	if err == nil {
		*row = *found
		err = tx.e.store.LoadPayload(row)
	}
	return err
}

// EnqueueMany takes all jobs in, or none. at gives the place of the i-th spec
// for messages, such as "line 501: ".
func (e *Engine) EnqueueMany(ctx context.Context, specs []job.Spec, at func(i int) string) ([]job.Job, error) {
	if len(specs) > job.MaxSpecs {
		return nil, job.Fault(job.Invalid, "%d jobs in one call are too many; at most %d are taken, none was", len(specs), job.MaxSpecs)
	}
	if err := job.Wrong("no job was taken in", job.CheckAll(specs, e.opts.MaxPayload, at)); err != nil {
		return nil, err
	}
	news := make([]*newJob, len(specs))
	for i := range specs {
		n, err := prepare(&specs[i])
		if err != nil {
			return nil, err
		}
		news[i] = n
	}
	id := identify(callOf(ctx))
	var jobs []job.Job
	err := e.doRows(ctx, len(news), func(tx *txn) error {
		r, err := tx.replayed(id)
		if err != nil {
			return err
		}
		if r != nil {
			jobs, err = tx.replayMany(r)
			return err
		}
		if err := tx.canTakeIn("no job was taken in", at, news...); err != nil {
			return err
		}
		jobs = make([]job.Job, len(news))
		var plain []*store.Row // which nothing asks for while the others are placed
		for i, n := range news {
			if err := tx.placeNew(n); err != nil {
				return err
			}
			switch {
			case n.earlier != nil:
			case n.row.Plain():
				plain = append(plain, &n.row)
			default:
				if err := tx.e.store.InsertJob(&n.row); err != nil {
					return err
				}
			}
			jobs[i] = job.Job{ID: n.row.ID, State: n.row.State}
			if n.earlier != nil {
				jobs[i] = job.Job{ID: n.earlier.ID, State: n.earlier.State, Duplicate: true}
			}
		}
		tx.noteMany(id, jobs)
		return tx.e.store.InsertPlain(plain)
	})
	return jobs, err
}

// noteMany keeps a receipt of a bulk: the first id and their number or, where earlier
// jobs have answered for some, 0 and every id.
func (tx *txn) noteMany(id callID, jobs []job.Job) {
	if len(jobs) == 0 {
		return
	}
	if !slices.ContainsFunc(jobs, func(j job.Job) bool { return j.Duplicate }) {
		tx.note(id, jobs[0].ID, int64(len(jobs)))
		return
	}
	ids := []int64{0}
	for _, j := range jobs {
		ids = append(ids, j.ID)
	}
	tx.note(id, ids...)
}

// replayMany rebuilds the answer to a bulk, in its order; what was removed since has no
// state.
func (tx *txn) replayMany(r *receipt) ([]job.Job, error) {
	ids := r.ids[1:]
	if r.ids[0] != 0 {
		ids = nil
		for id := r.ids[0]; id < r.ids[0]+r.ids[1]; id++ {
			ids = append(ids, id)
		}
	}
	jobs := make([]job.Job, len(ids))
	for i, id := range ids {
		row, err := tx.e.store.Row(id)
		if err != nil {
			return nil, err
		}
		if jobs[i].ID = id; row != nil {
			jobs[i].State = row.State
		}
	}
	return jobs, nil
}

// canTakeIn refuses jobs that are well-formed and cannot be taken in now, before anything
// is written. A call that has taken effect before does not come to it: it is answered as
// it was then, whatever time it is by now and however full the disk.
func (tx *txn) canTakeIn(title string, at func(i int) string, news ...*newJob) error {
	if err := tx.e.hasRoom(); err != nil {
		return err
	}
	var late []job.FieldError
	for i, n := range news {
		for _, w := range n.spec.CheckStart(tx.now) {
			late = append(late, job.FieldError{Field: at(i) + w.Field, Message: w.Message})
		}
	}
	if err := job.Wrong(title, late); err != nil {
		return err
	}
	if err := tx.canName(news...); err != nil {
		return err
	}
	return tx.canWait(news...)
}

// nowhere is the place of a job that came by itself.
func nowhere(int) string { return "" }

// canName refuses jobs that would make too many queues or tasks, before
// anything is written.
func (tx *txn) canName(news ...*newJob) error {
	if tx.roomForNames(len(news)) {
		return nil
	}
	queues, tasks := make([]string, len(news)), make([]string, len(news))
	for i, n := range news {
		queues[i], tasks[i] = tx.queueFor(n), n.task
	}
	return tx.canMake(queues, tasks)
}

// roomForNames tells whether so many more queues and tasks are surely not too many, of all
// and of those that whoever gives the command has made.
func (tx *txn) roomForNames(n int) bool {
	v := &tx.e.view
	queues, tasks := len(v.queues)+len(tx.newQueues), len(v.tasks)+len(tx.newTasks)
	return queues+n <= mostNames && tasks+n <= mostNames && tx.made(false)+n <= tx.shareOf(false) && tx.made(true)+n <= tx.shareOf(true)
}

// made counts the queues, or the tasks, that whoever gives the command has made.
func (tx *txn) made(tasks bool) int {
	n := len(tx.newQueues)
	if tasks {
		n = len(tx.newTasks)
	}
	return n + tx.e.view.madeBy[madeBy{tx.by, tasks}]
}

// shareOf is how many of them one token may have made: a quarter of what others leave.
// Without tokens, and for what the service does itself, all may be used.
func (tx *txn) shareOf(tasks bool) int {
	if tx.by == localPrincipal || tx.by == "" {
		return mostNames
	}
	all := len(tx.e.view.queues) + len(tx.newQueues)
	if tasks {
		all = len(tx.e.view.tasks) + len(tx.newTasks)
	}
	return (mostNames - all + tx.made(tasks)) / 4
}

// canMake refuses to make queues and tasks of those names that are new, where they
// would be too many.
func (tx *txn) canMake(queueNames, taskNames []string) error {
	if tx.roomForNames(max(len(queueNames), len(taskNames))) {
		return nil
	}
	v := &tx.e.view
	queues, tasks := map[string]bool{}, map[string]bool{}
	for _, name := range queueNames {
		if tx.queue(name) == nil {
			queues[name] = true
		}
	}
	for _, name := range taskNames {
		if tx.task(name) == 0 {
			tasks[name] = true
		}
	}
	if share := tx.shareOf(false); len(queues) > 0 && tx.made(false)+len(queues) > share && share < mostNames {
		return job.Wrong("no job was taken in", []job.FieldError{{Field: "queue", Message: fmt.Sprintf("would be one of more than %d queues that token %s has made; put what differs into labels, owner or payload", share, tx.by)}})
	}
	if share := tx.shareOf(true); len(tasks) > 0 && tx.made(true)+len(tasks) > share && share < mostNames {
		return job.Wrong("no job was taken in", []job.FieldError{{Field: "task", Message: fmt.Sprintf("would be one of more than %d tasks that token %s has made; put what differs into labels or payload", share, tx.by)}})
	}
	if len(v.queues)+len(tx.newQueues)+len(queues) > mostNames {
		return job.Wrong("no job was taken in", []job.FieldError{{Field: "queue", Message: fmt.Sprintf("would be one of more than %d queues; put what differs into labels, owner or payload", mostNames)}})
	}
	if len(v.tasks)+len(tx.newTasks)+len(tasks) > mostNames {
		return job.Wrong("no job was taken in", []job.FieldError{{Field: "task", Message: fmt.Sprintf("would be one of more than %d tasks; put what differs into labels or payload", mostNames)}})
	}
	return nil
}

// insert writes a new job, or finds the earlier one that answers for it.
func (tx *txn) insert(n *newJob) error {
	if err := tx.placeNew(n); err != nil || n.earlier != nil {
		return err
	}
	return tx.e.store.InsertJob(&n.row)
}

// placeNew gives a new job its id and its place, all but its row in the file. It may be
// called again in a later transaction.
func (tx *txn) placeNew(n *newJob) error {
	r := &n.row
	n.earlier = nil
	if n.spec.Dedupe != "" { // before anything is made for the new one
		if err := tx.dedupe(n); err != nil || n.earlier != nil {
			return err
		}
	}
	q, err := tx.useQueue(tx.queueFor(n))
	if err != nil {
		return err
	}
	r.State, r.ID, r.Queue, r.EnqueuedAt, r.NextAt = job.New, tx.nextJob, q.id, tx.now, r.RunAt
	r.Rank, r.Level, r.Turn, r.ReadyAt = 0, 0, false, 0 // not those of a transaction that failed
	tx.nextJob++
	if r.Task, err = tx.useTask(n.task); err != nil {
		return err
	}
	body, priority := tx.resolve(n, q)
	if r.Policy, err = tx.usePolicy(body); err != nil {
		return err
	}
	r.Priority = priority
	if n.delay > 0 {
		r.RunAt = runAtOf(n, tx.now)
		r.NextAt = r.RunAt
	}
	return tx.place(r, job.ByEnqueue)
}

func (tx *txn) useQueue(name string) (*queue, error) {
	if q := tx.queue(name); q != nil {
		return q, nil
	}
	if tx.newQueues == nil {
		tx.newQueues = map[string]*queue{}
	}
	tx.lastQueue++
	q := &queue{id: tx.lastQueue, name: name, madeBy: tx.by, nextRank: 1, reserved: 1, tasks: map[int64]*stateCounts{}, rules: &builtInRules}
	tx.newQueues[name] = q
	return q, tx.e.store.AddQueue(q.id, name, tx.by, tx.now)
}

func (tx *txn) task(name string) int64 {
	if id := tx.e.view.tasks[name]; id != 0 && tx.unmadeTasks[id] == "" {
		return id
	}
	return tx.newTasks[name]
}

func (tx *txn) useTask(name string) (int64, error) {
	if id := tx.task(name); id != 0 {
		return id, nil
	}
	if tx.newTasks == nil {
		tx.newTasks = map[string]int64{}
	}
	tx.lastTask++
	id := tx.lastTask
	tx.newTasks[name] = id
	if tx.taskMadeBy == nil {
		tx.taskMadeBy = map[int64]string{}
	}
	tx.taskMadeBy[id] = tx.by
	return id, tx.e.store.AddTask(id, name, tx.by, tx.now)
}

func (tx *txn) usePolicy(body string) (int64, error) {
	id, err := tx.policies[body], error(nil)
	if known := tx.e.policies[body]; id == 0 && !tx.gonePolicies[known] {
		id = known
	}
	if id == 0 {
		if id, err = tx.e.store.AddPolicy(body); err != nil {
			return 0, err
		}
		if tx.policies == nil {
			tx.policies = map[string]int64{}
		}
		tx.policies[body] = id
	}
	tx.usesPolicy(id)
	return id, nil
}
