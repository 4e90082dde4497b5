package command

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// members are checked jobs of a batch in the shape in which they are stored.
type members struct {
	jobs []*NewJob
	// refs are the names of those that come together, and before those, by their jobs' places, of
	// jobs that came before.
	refs   map[string]*NewJob
	before map[int][]string
	last   *NewJob
}

// prepareMembers shapes checked jobs of a batch for an owner; last is nil where none is the last.
func prepareMembers(jobs []api.BatchJob, last *job.Spec, owner string) (*members, error) {
	m := &members{refs: make(map[string]*NewJob, len(jobs)), before: map[int][]string{}}
	for i := range jobs {
		n, err := prepareMember(&jobs[i].Spec, owner)
		if err != nil {
			return nil, err
		}
		if n.Row.Ref = jobs[i].Ref; n.Row.Ref != "" {
			m.refs[n.Row.Ref] = n
		}
		m.jobs = append(m.jobs, n)
	}
	for i, n := range m.jobs {
		if n.spec.After == nil {
			continue
		}
		for _, ref := range n.spec.After.Refs {
			if o := m.refs[ref]; o != nil {
				o.Row.Awaited |= store.AwaitedByJobs
				n.needs = append(n.needs, o)
			} else {
				m.before[i] = append(m.before[i], ref)
			}
		}
	}
	if last == nil {
		return m, nil
	}
	n, err := prepareMember(last, owner)
	if err != nil {
		return nil, err
	}
	if n.Row.After == 0 {
		n.Row.After = uint8(lifecycle.WantsDone)
	}
	m.last = n
	return m, nil
}

func prepareMember(s *job.Spec, owner string) (*NewJob, error) {
	n, err := Prepare(s)
	if err == nil && n.Row.Owner == "" {
		n.Row.Owner = owner
	}
	return n, err
}

// all are the members, the last one at the end.
func (m *members) all() []*NewJob {
	if m.last == nil {
		return m.jobs
	}
	return append(m.jobs[:len(m.jobs):len(m.jobs)], m.last)
}

// insert writes them into a batch, whose last job waits for them where it has one.
func (m *members) insert(tx *commit.Tx, batch int64, hasLast bool) error {
	all := m.all()
	ids := make([]int64, len(all))
	for i, n := range all { // the ones that others wait for may come after those
		ids[i] = tx.Facts.DrawID()
		n.Row.ID, n.Row.Batch = ids[i], batch
		if n.Row.Awaited &^= store.AwaitedByLast; hasLast && n != m.last {
			n.Row.Awaited |= store.AwaitedByLast
		}
	}
	for i, n := range all {
		n.isLast = n == m.last
		if err := placeAs(tx, n, ids[i]); err != nil {
			return err
		}
		if err := tx.Store.InsertJob(&n.Row); err != nil {
			return err
		}
	}
	tx.Ties.Change(batch).Jobs += int64(len(all))
	return nil
}

// ids are those that the members have got.
func (m *members) ids() (all []int64) {
	for _, n := range m.all() {
		all = append(all, n.Row.ID)
	}
	return all
}

// MakeBatch takes in jobs that belong together, all or none; at names the i-th one for messages.
func (dk *Desk) MakeBatch(ctx context.Context, b api.NewBatch, at func(i int) string) (api.Batch, error) {
	const refused = "no job was enqueued"
	if err := scope.Whole(ctx); err != nil {
		return api.Batch{}, err
	}
	if err := job.Wrong(refused, b.Check(dk.c.MaxPayload, at)); err != nil {
		return api.Batch{}, err
	}
	m, err := prepareMembers(b.Jobs, b.Last, b.Owner)
	if err != nil {
		return api.Batch{}, err
	}
	row, err := batchRow(&b)
	if err != nil {
		return api.Batch{}, err
	}
	row.MadeBy = commit.CallOf(ctx).Principal
	same := commit.CallOf(ctx).ID()
	var id int64
	var ids []int64
	var duplicate bool
	err = dk.c.DoRows(ctx, len(b.Jobs)+1, func(v *commit.View) (commit.Write, error) {
		id, ids, duplicate = 0, nil, false
		r, err := v.Receipts.Find(same)
		if err != nil {
			return nil, err
		}
		if r != nil {
			id, ids = r.IDs[0], idsNoted(r)
			return nil, nil
		}
		if id, err = earlierBatch(v, &b); id != 0 || err != nil {
			duplicate = true
			return nil, err
		}
		if err := job.Wrong(refused, NotifyFaults(v, "notify", b.Notify, v.Endpoints.Has)); err != nil {
			return nil, err
		}
		if err := dk.canTakeIn(v, refused, lastAt(at, len(b.Jobs)), m.all()...); err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) error {
			if err := m.insertAs(tx, &row); err != nil {
				return err
			}
			id, ids = row.ID, m.ids()
			noteMembers(tx, same, id, ids)
			return nil
		}, nil
	})
	if err != nil {
		return api.Batch{}, err
	}
	told, err := dk.read.Batch(ctx, id)
	told.IDs, told.Duplicate = ids, duplicate
	return told, err
}

// StartBatch enqueues the batch of a schedule, with its last job as the run. Where that of the run before,
// behind, has not ended, the others wait for it. It answers the id of its own last job.
func StartBatch(tx *commit.Tx, s *memory.Schedule, behind int64) (last int64, err error) {
	b := s.Is.Batch
	jobs := slices.Clone(b.Jobs)
	for i := range jobs {
		if behind != 0 && jobs[i].After == nil {
			jobs[i].After = &job.After{Jobs: []int64{behind}, When: job.WhenFinished}
		}
	}
	m, err := prepareMembers(jobs, b.Last, b.Owner)
	if err != nil {
		return 0, err
	}
	m.last.Row.Schedule = s.Row.ID
	row, err := batchRow(b)
	if err != nil {
		return 0, err
	}
	row.MadeBy = "schedule " + s.Row.Name
	err = m.insertAs(tx, &row)
	return m.last.Row.ID, err
}

// batchRow is a new batch in the shape in which it is stored.
func batchRow(b *api.NewBatch) (store.Batch, error) {
	row := store.Batch{Name: b.Name, Owner: b.Owner, Open: b.Open, Waits: b.Last != nil}
	if len(b.Labels) > 0 {
		labels, err := json.Marshal(b.Labels)
		if err != nil {
			return row, err
		}
		row.Labels = string(labels)
	}
	if len(b.Notify) > 0 {
		notify, err := json.Marshal(b.Notify)
		if err != nil {
			return row, err
		}
		row.Notify = string(notify)
	}
	return row, nil
}

// insertAs writes the members, and their batch.
func (m *members) insertAs(tx *commit.Tx, row *store.Batch) error {
	row.ID, row.MadeAt, row.Last = tx.Facts.DrawID(), tx.Now, 0
	if err := m.insert(tx, row.ID, m.last != nil); err != nil {
		return err
	}
	if m.last != nil {
		row.Last = m.last.Row.ID
	}
	return tx.Store.InsertBatch(row)
}

// lastAt names the last job of a batch behind n others.
func lastAt(at func(i int) string, n int) func(i int) string {
	return func(i int) string {
		if i == n {
			return "last."
		}
		return at(i)
	}
}

// noteMembers keeps a receipt of a call that has enqueued jobs of a batch: their ids follow one another.
func noteMembers(tx *commit.Tx, same memory.CallID, batch int64, ids []int64) {
	if len(ids) == 0 {
		tx.Receipts.Note(same, batch, 0, 0)
		return
	}
	tx.Receipts.Note(same, batch, ids[0], int64(len(ids)))
}

func idsNoted(r *memory.Receipt) (ids []int64) {
	for id := r.IDs[1]; id < r.IDs[1]+r.IDs[2]; id++ {
		ids = append(ids, id)
	}
	return ids
}

// earlierBatch finds the batch that answers in place of a new one; 0 for none.
func earlierBatch(v *commit.View, b *api.NewBatch) (int64, error) {
	if b.Dedupe == "" {
		return 0, nil
	}
	earlier, err := v.Store.NewestCalled(b.Name)
	if err != nil || earlier == nil {
		return 0, err
	}
	if b.Dedupe == job.Unfinished {
		if earlier.FinishedAt != 0 {
			return 0, nil
		}
		return earlier.ID, nil
	}
	d, err := job.ParseDuration(b.Dedupe)
	if err != nil || earlier.MadeAt <= v.Now.Add(-d.Go()) || earlier.State == store.BatchCancelled || earlier.State == store.BatchFailed {
		return 0, err
	}
	return earlier.ID, nil
}

// AddToBatch adds jobs to an open batch, all or none.
func (dk *Desk) AddToBatch(ctx context.Context, id int64, jobs []api.BatchJob, at func(i int) string) (api.Batch, error) {
	const refused = "no job was enqueued"
	if err := scope.Whole(ctx); err != nil {
		return api.Batch{}, err
	}
	if len(jobs) == 0 {
		return api.Batch{}, job.Wrong(refused, []job.FieldError{{Field: "jobs", Message: "is empty; give at least one job"}})
	}
	if len(jobs) > api.MaxBatchJobs {
		return api.Batch{}, job.Fault(job.Invalid, "%d jobs in one call are too many; at most %d are taken, none was", len(jobs), api.MaxBatchJobs)
	}
	same := commit.CallOf(ctx).ID()
	var ids []int64
	err := dk.c.DoRows(ctx, len(jobs), func(v *commit.View) (commit.Write, error) {
		r, err := v.Receipts.Find(same)
		if r != nil || err != nil {
			if r != nil {
				ids = idsNoted(r)
			}
			return nil, err
		}
		b, err := batchOf(v, id)
		if err != nil {
			return nil, err
		}
		if !b.Open {
			return nil, job.Fault(job.WrongState, "batch %d is closed; jobs can be added to an open one, or by a job of it as it ends", id)
		}
		m, wrong, err := newMembers(v, b, jobs, at)
		if err != nil || wrong != nil {
			return nil, cmp.Or(err, job.Wrong(refused, wrong))
		}
		if err := dk.canTakeIn(v, refused, at, m.jobs...); err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) error {
			if err := m.insert(tx, id, b.Last != 0); err != nil {
				return err
			}
			ids = m.ids()
			noteMembers(tx, same, id, ids)
			return nil
		}, nil
	})
	if err != nil {
		return api.Batch{}, err
	}
	told, err := dk.read.Batch(ctx, id)
	told.IDs = ids
	return told, err
}

// newMembers checks and shapes jobs that are added to a batch, or answers what is wrong with them. Names that jobs have which came before
// become their ids.
func newMembers(v *commit.View, b *store.Batch, jobs []api.BatchJob, at func(i int) string) (m *members, wrong []job.FieldError, err error) {
	before := map[string]int64{}
	wrong = api.CheckBatchJobs(jobs, v.Options().MaxPayload, at, func(ref string) bool {
		found, failed := v.Store.OfRef(b.ID, ref)
		if failed != nil {
			err = failed
		}
		before[ref] = found
		return found != 0
	})
	if err != nil || wrong != nil {
		return nil, wrong, err
	}
	if m, err = prepareMembers(jobs, nil, b.Owner); err != nil {
		return nil, nil, err
	}
	for i, refs := range m.before {
		s := *m.jobs[i].spec
		a := *s.After
		a.Jobs = append([]int64(nil), a.Jobs...)
		for _, ref := range refs {
			if id := before[ref]; !slices.Contains(a.Jobs, id) { // it may be named by its id too
				a.Jobs = append(a.Jobs, id)
			}
		}
		s.After = &a
		m.jobs[i].spec = &s
	}
	return m, nil, nil
}

// CloseBatch closes a batch: no more jobs are added from outside. To close it again changes nothing.
func (dk *Desk) CloseBatch(ctx context.Context, id int64) (api.Batch, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Batch{}, err
	}
	err := dk.c.Record(ctx, "close_batch", 0, map[string]int64{"batch": id}, func(v *commit.View) (commit.Act, error) {
		b, err := batchOf(v, id)
		if err != nil || !b.Open {
			return nil, err
		}
		return func(tx *commit.Tx, _ int64) error {
			b.Open = false
			tx.Ties.Change(id).Looked = true // it may have ended
			return tx.Ties.PutBatch(b)
		}, nil
	})
	if err != nil {
		return api.Batch{}, err
	}
	return dk.read.Batch(ctx, id)
}

// batchOf reads a batch that is there.
func batchOf(v *commit.View, id int64) (*store.Batch, error) {
	b, err := v.Store.Batch(id)
	if err == nil && b == nil {
		err = read.NoBatch(id)
	}
	return b, err
}
