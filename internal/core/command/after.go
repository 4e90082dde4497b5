package command

import (
	"errors"
	"fmt"

	"humblemule.example/internal/core/after"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// mostWrong is how many wrong fields of a call are named.
const mostWrong = 100

// canFollow answers what is wrong with the jobs that new ones are to wait for: each must be there,
// and not for another's eyes.
func canFollow(v *commit.View, at func(i int) string, news ...*NewJob) (wrong []job.FieldError) {
	for i, n := range news {
		if n.spec.After == nil || len(n.spec.After.Jobs) == 0 {
			continue
		}
		rows, err := after.RowsByID(v.Store, n.spec.After.Jobs)
		if err != nil {
			return []job.FieldError{{Field: at(i) + "after.jobs", Message: "could not be read: " + err.Error()}}
		}
		for k, id := range n.spec.After.Jobs {
			if r := rows[id]; (r == nil || !v.Sees(r)) && len(wrong) < mostWrong {
				wrong = append(wrong, job.FieldError{Field: fmt.Sprintf("%safter.jobs[%d]", at(i), k), Message: fmt.Sprintf("%d is not the id of a job that is kept; leave it out if it was removed since", id)})
			}
		}
	}
	return wrong
}

// tie writes what a new job waits for, and notes it on those.
func tie(tx *commit.Tx, n *NewJob) error {
	r := &n.Row
	if r.Unmet = 0; n.isLast {
		r.Unmet = 1
		return nil
	}
	if n.spec.After == nil {
		return nil
	}
	wants := lifecycle.Wants(r.After)
	for _, o := range n.needs {
		tx.Store.InsertEdge(store.Edge{Job: r.ID, Needs: o.Row.ID, Wants: wants})
	}
	r.Unmet = int64(len(n.needs))
	rows, err := after.RowsByID(tx.Store, n.spec.After.Jobs)
	if err != nil {
		return err
	}
	for _, id := range n.spec.After.Jobs {
		e := store.Edge{Job: r.ID, Needs: id, Wants: wants}
		if err := tieTo(tx, &e, rows[id]); err != nil {
			return err
		}
		if e.State == store.EdgeUnmet {
			r.Unmet++
		}
		tx.Store.InsertEdge(e)
	}
	return nil
}

// tieTo notes on a job that another waits for it; one that has ended may meet the edge at once.
func tieTo(tx *commit.Tx, e *store.Edge, x *store.Row) error {
	if x == nil {
		return fmt.Errorf("job %d, which job %d is to wait for, is not there", e.Needs, e.Job)
	}
	if x.State.Finished() {
		switch how := lifecycle.HowEnded(x.State, job.Reason(x.Reason)); lifecycle.FateOf(how, e.Wants) {
		case lifecycle.Met:
			e.State = store.EdgeMet
		case lifecycle.Cancels:
			tx.Ties.Ended = append(tx.Ties.Ended, store.Ending{Of: x.ID, How: how, UpTo: e.Job})
		}
	}
	if x.Awaited&store.AwaitedByJobs != 0 {
		return nil
	}
	if l := tx.Leases.Get(x.ID); l != nil {
		row, told := *l.Row, *l
		row.Awaited |= store.AwaitedByJobs
		told.Row = &row
		tx.Leases.Put(&told)
	}
	return tx.Store.Await(x.ID, store.AwaitedByJobs)
}

// TieImported has an imported job wait for others, those that are here. Where some are not, it waits for
// one that is gone.
func TieImported(tx *commit.Tx, r *store.Row, needs []int64, missing bool) error {
	rows, err := after.RowsByID(tx.Store, needs)
	if err != nil {
		return err
	}
	for _, id := range needs {
		e := store.Edge{Job: r.ID, Needs: id, Wants: lifecycle.Wants(r.After)}
		if rows[id] == nil { // removed since
			missing = true
			continue
		}
		if err := tieTo(tx, &e, rows[id]); err != nil {
			return err
		}
		if e.State == store.EdgeUnmet {
			r.Unmet++
		}
		tx.Store.InsertEdge(e)
	}
	if !missing {
		return nil
	}
	r.Unmet++
	e := store.Edge{Job: r.ID, Needs: nowhereID, Wants: lifecycle.Wants(r.After)}
	tx.Store.InsertEdge(e)
	return tx.Store.LoseEdge(e, tx.Now)
}

// nowhereID stands for a job that another waits for and that is not here.
const nowhereID = 0

// afterOf is what a job asked to wait for; nil for nothing.
func afterOf(s after.Reading, r *store.Row) (*job.After, error) {
	if r.After == 0 {
		return nil, nil
	}
	edges, err := s.EdgesOf(r.ID)
	if err != nil || len(edges) == 0 {
		return nil, err
	}
	a := new(job.After)
	a.When, a.IfNot = lifecycle.Wants(r.After).Rule()
	for _, e := range edges {
		a.Jobs = append(a.Jobs, e.Needs)
	}
	return a, nil
}

// canWaitAgain refuses to give a job a new round that would be cancelled at once, because of what it
// waits for.
func canWaitAgain(v *commit.View, r *store.Row) error {
	failed, err := after.FailedOf(v.Store, r)
	if err != nil || len(failed) == 0 {
		return err
	}
	return job.Fault(job.WrongState, "job %d waits for job %d, which has not ended as it asks for, and would be cancelled again; requeue job %d, or requeue this one with ignore_after", r.ID, failed[0].Needs, failed[0].Needs)
}

// waitsNoMore notes that a job which waits for others is removed, and waitsAgain that it is not.
func waitsNoMore(tx *commit.Tx, r *store.Row) error {
	if r.After == 0 || r.State.Finished() {
		return nil
	}
	return tx.Store.EdgesOver(r.ID)
}

// waitsAgain goes with waitsNoMore.
func waitsAgain(tx *commit.Tx, r *store.Row) error {
	if r.Batch != 0 {
		tx.Ties.Change(r.Batch).Looked = true // its last job may have missed the end of the others
	}
	if r.After == 0 {
		return nil
	}
	return errors.Join(tx.Store.EdgesOpen(r.ID), after.Again(tx, r))
}
