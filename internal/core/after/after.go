// Package after is what the end of a job means to others: those that wait for it go on or are
// cancelled, and its batch comes to its end, or lets its last job go.
//
// That a job waits for another is an edge, which is met once and stays met, whatever becomes of the
// other later. Where many wait for one they are told in slices, each in a transaction of its own;
// what is left to be told stands in the file. It keeps nothing: what it needs beside the file is a
// part of the memory.
package after

import (
	"errors"
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// So many jobs are told in the transaction in which the one has ended that they wait for; then so many
// at a time, in later ones, for a while each.
const (
	toldAtOnce = 100
	toldFor    = 1500 * time.Microsecond
)

// LetGo tells of all that has ended in the transaction. Of what comes of it much may be left for
// later ones.
func LetGo(tx *commit.Tx) error {
	left := toldAtOnce
	for tx.Ties.Any() {
		if err := letGo(tx, &left); err != nil {
			return err
		}
	}
	return nil
}

// letGo tells of the next end or, where there is none, judges the next batch.
func letGo(tx *commit.Tx, left *int) error {
	if len(tx.Ties.Ended) == 0 {
		return judge(tx, tx.Ties.NextChange())
	}
	e := tx.Ties.Ended[0]
	tx.Ties.Ended = tx.Ties.Ended[1:]
	if *left <= 0 || tx.Ties.Waits(e.Of) { // what has ended before is told before
		return tx.Ties.Later(e)
	}
	told, over, err := tell(tx, e, *left, time.Time{})
	*left -= told
	if err == nil && !over {
		err = tx.Ties.Later(e)
	}
	return err
}

// Later is the timed work that goes on telling of ends.
func Later() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration {
		if tx.Ties.NumEndings() > 0 {
			return 0
		}
		return commit.Never
	}, Do: tellLater}
}

// tellLater goes on with the ends that were left, a slice of each in turn, for a while.
func tellLater(tx *commit.Tx) error {
	began := time.Now()
	for range tx.Ties.NumEndings() + 1 {
		e, found := tx.Ties.Next(tx.Ties.At.Get())
		if !found {
			tx.Ties.At.Set(0) // from the first one on
			continue
		}
		tx.Ties.At.Set(e.ID)
		if tx.Passes(commit.ThingEnding, e.ID) {
			continue
		}
		if err := goOn(tx, e, began.Add(toldFor)); err != nil || time.Since(began) > toldFor {
			return err
		}
	}
	return nil
}

// goOn tells a slice of an end.
func goOn(tx *commit.Tx, e store.Ending, until time.Time) error {
	if e.How == lifecycle.BatchOver {
		return freeMembers(tx, e)
	}
	_, over, err := tell(tx, e, toldAtOnce, until)
	if err != nil || !over {
		return err
	}
	return tx.Ties.Told(e)
}

// tell tells jobs that wait for one of its end, so many at most and up to a time, and says how many
// it has told and whether those were all.
func tell(tx *commit.Tx, e store.Ending, most int, until time.Time) (told int, over bool, err error) {
	for _, wants := range []lifecycle.Wants{lifecycle.WantsDone, lifecycle.WantsDoneOrCancel, lifecycle.WantsEnd} {
		fate := lifecycle.FateOf(e.How, wants)
		if fate == lifecycle.Nothing {
			continue
		}
		waiting, err := unmetOf(tx, e, wants, fate, most-told+1)
		if err != nil {
			return told, false, err
		}
		for i, w := range waiting {
			if told == most || i > 0 && !until.IsZero() && time.Now().After(until) {
				return told, false, nil
			}
			if err := meets(tx, w, fate); err != nil {
				return told, false, err
			}
			told++
		}
		if e.How == lifecycle.EndedDone { // which meets all of them
			break
		}
	}
	return told, true, nil
}

// unmetOf reads jobs that wait for one, and want something of it: all where it is done. Those that are
// finished, or removed, are not cancelled any more.
func unmetOf(tx *commit.Tx, e store.Ending, wants lifecycle.Wants, fate lifecycle.Fate, most int) (all []store.Edge, err error) {
	if e.How == lifecycle.EndedDone {
		return tx.Store.AllUnmetOf(e.Of, e.UpTo, most)
	}
	for _, finished := range []bool{false, true} {
		if finished && (fate == lifecycle.Cancels || len(all) >= most) {
			break
		}
		more, err := tx.Store.UnmetOf(e.Of, wants, finished, e.UpTo, most-len(all))
		if err != nil {
			return nil, err
		}
		all = append(all, more...)
	}
	return all, nil
}

// meets is what becomes of a job by the end of one that it waits for.
func meets(tx *commit.Tx, e store.Edge, fate lifecycle.Fate) error {
	if fate == lifecycle.Gone {
		tx.News.Touched = append(tx.News.Touched, e.Job)
		return tx.Store.LoseEdge(e, tx.Now)
	}
	r, err := tx.Store.Row(e.Job)
	switch {
	case err != nil:
		return err
	case fate == lifecycle.Cancels && r != nil && r.State == job.Held:
		return place.Finish(tx, r, job.Cancelled, job.DependencyDead, "", lifecycle.ByDependency)
	case fate == lifecycle.Cancels:
		return nil
	}
	if err := tx.Store.Turn(e, store.EdgeMet); err != nil {
		return err
	}
	return oneLess(tx, e.Job, r)
}

// oneLess takes one from those that a job waits for; r is its row, nil where it was removed.
func oneLess(tx *commit.Tx, id int64, r *store.Row) error {
	if r == nil || r.State != job.Held || r.Unmet != 1 {
		if r != nil {
			tx.News.Touched = append(tx.News.Touched, id)
		}
		return tx.Store.AddUnmet(id, -1)
	}
	r.Unmet = 0
	if err := place.Put(tx, r, lifecycle.ByUnheld); err != nil {
		return err
	}
	return tx.Store.Wait(r)
}

// judge looks at a batch after its jobs have changed: its last job may go on, or it has ended.
func judge(tx *commit.Tx, c *memory.BatchChange) error {
	tx.Ties.Count(c)
	if !c.Matters() {
		tx.News.Batches = append(tx.News.Batches, memory.BatchNews{ID: c.ID})
		return nil
	}
	b, n, err := tx.Ties.Batch(c.ID)
	if err != nil || b == nil {
		return err
	}
	was := *b
	b.Jobs, b.Gone = b.Jobs+c.Jobs, b.Gone+c.Gone
	if b.Gone == b.Jobs && !b.Open && Unfinished(&n) == 0 && b.Jobs > 0 {
		return tx.Ties.DropBatch(b.ID)
	}
	if b.Waits {
		if err := judgeLast(tx, b, &n); err != nil {
			return err
		}
	}
	if stands(tx, b, &n); *b != was {
		if err := tx.Ties.PutBatch(b); err != nil {
			return err
		}
	}
	tx.News.Batches = append(tx.News.Batches, memory.BatchNews{ID: b.ID, Owner: b.Owner, State: b.State})
	over := b.FinishedAt != 0 && was.FinishedAt == 0
	if over && b.Notify != "" {
		tx.Endpoints.BatchesEnded = append(tx.Endpoints.BatchesEnded, memory.BatchEnded{Batch: *b, Counts: n})
	}
	if over && b.Last != 0 {
		return tx.Ties.Later(store.Ending{Of: b.ID, How: lifecycle.BatchOver})
	}
	return nil
}

// judgeLast lets the last job of a batch go when all others have ended as it asks for. Unlike an
// edge this is judged by how they stand: one that is run again is waited for again.
func judgeLast(tx *commit.Tx, b *store.Batch, n *store.BatchCounts) error {
	r, err := tx.Store.Row(b.Last)
	if err != nil || r == nil || r.State != job.Held {
		return err
	}
	wants, missed := lifecycle.Wants(r.After), Missed(n) > 0
	switch {
	case missed && wants == lifecycle.WantsDoneOrCancel:
		return place.Finish(tx, r, job.Cancelled, job.DependencyDead, "", lifecycle.ByDependency)
	case b.Open || Unfinished(n) > 1 || missed && wants != lifecycle.WantsEnd:
		return nil
	}
	b.Waits = false
	return oneLess(tx, b.Last, r)
}

// stands sets how a batch stands by its counts.
func stands(tx *commit.Tx, b *store.Batch, n *store.BatchCounts) {
	left := Unfinished(n)
	b.Idle = left == n[job.Held] && left > 0 && (!b.Open || !b.Waits || left > 1) // an open one waits for more
	switch {
	case left > 0 || b.Open:
		b.State, b.FinishedAt = store.BatchRunning, 0
		return
	case n[job.Dead] > 0 || n[store.TooLateState] > 0:
		b.State = store.BatchFailed
	case n[job.Cancelled] > 0:
		b.State = store.BatchCancelled
	default:
		b.State = store.BatchDone
	}
	if b.FinishedAt == 0 {
		b.FinishedAt = tx.Now
	}
}

// CountsOf are the jobs of a batch by state, as the transaction sees them.
func CountsOf(tx *commit.Tx, batch int64) (store.BatchCounts, error) {
	_, n, err := tx.Ties.Batch(batch)
	for state, by := range tx.Ties.Change(batch).By {
		n[state] += by
	}
	return n, err
}

// Unfinished counts the jobs of a batch that are not finished.
func Unfinished(n *store.BatchCounts) int64 {
	return n[job.Held] + n[job.Scheduled] + n[job.Ready] + n[job.Running] + n[job.Backoff]
}

// Missed counts those that have ended in another way than done, or skipped by their handlers.
func Missed(n *store.BatchCounts) int64 {
	return n[job.Cancelled] + n[job.Dead] + n[store.TooLateState]
}

// freeMembers writes of the jobs of a batch that its last one waits for them no longer, a slice of
// them.
func freeMembers(tx *commit.Tx, e store.Ending) error {
	members, err := tx.Store.Members(e.Of, e.UpTo, toldAtOnce)
	if err != nil {
		return err
	}
	for _, id := range members {
		if err := tx.Store.Unawait(id, store.AwaitedByLast); err != nil {
			return err
		}
		e.UpTo = id
	}
	if len(members) < toldAtOnce {
		return tx.Ties.Told(e)
	}
	return tx.Ties.Later(e)
}

// Again notes of a job that waits for others, and has come back, those that have ended meanwhile
// without meeting it: where it asks for that it is cancelled.
func Again(tx *commit.Tx, r *store.Row) error {
	edges, err := FailedOf(tx.Store, r)
	for _, e := range edges {
		tx.Ties.Ended = append(tx.Ties.Ended, store.Ending{Of: e.Needs, How: lifecycle.EndedOtherwise, UpTo: r.ID})
	}
	return err
}

// Reading is what is read of the file to look at edges.
type Reading interface {
	EdgesOf(id int64) ([]store.Edge, error)
	Rows(ids []int64) (map[int64]*store.Row, error)
}

// FailedOf are the unmet edges of a job that is to be cancelled where what it waits for has ended
// otherwise, and has.
func FailedOf(s Reading, r *store.Row) (failed []store.Edge, err error) {
	if lifecycle.Wants(r.After) != lifecycle.WantsDoneOrCancel || r.Unmet == 0 {
		return nil, nil
	}
	edges, err := s.EdgesOf(r.ID)
	if err != nil {
		return nil, err
	}
	rows, err := RowsOf(s, edges)
	for _, e := range edges {
		if x := rows[e.Needs]; e.State == store.EdgeUnmet && x != nil && x.State.Finished() && lifecycle.FateOf(lifecycle.HowEnded(x.State, job.Reason(x.Reason)), e.Wants) == lifecycle.Cancels {
			failed = append(failed, e)
		}
	}
	return failed, err
}

// RowsOf reads the rows of the jobs that edges lead to.
func RowsOf(s Reading, edges []store.Edge) (map[int64]*store.Row, error) {
	ids := make([]int64, len(edges))
	for i, e := range edges {
		ids[i] = e.Needs
	}
	return RowsByID(s, ids)
}

// RowsByID reads the rows of jobs; of those that are not there, none.
func RowsByID(s Reading, ids []int64) (map[int64]*store.Row, error) {
	all := make(map[int64]*store.Row, len(ids))
	var errs []error
	for len(ids) > 0 {
		n := min(len(ids), store.AtOnce)
		rows, err := s.Rows(ids[:n])
		errs = append(errs, err)
		for id, r := range rows {
			all[id] = r
		}
		ids = ids[n:]
	}
	return all, errors.Join(errs...)
}

// Drop lets a job go on without those that it still waits for, and tells which these are; the caller
// writes its row.
func Drop(tx *commit.Tx, r *store.Row) error {
	edges, err := tx.Store.EdgesOf(r.ID)
	if err != nil {
		return err
	}
	for _, e := range edges {
		if e.State != store.EdgeUnmet && e.State != store.EdgeGone {
			continue
		}
		if err := tx.Store.DropEdge(e); err != nil {
			return err
		}
	}
	r.Unmet = 0
	if r.Batch == 0 {
		return nil
	}
	b, _, err := tx.Ties.Batch(r.Batch)
	if err != nil || b == nil || b.Last != r.ID || !b.Waits {
		return err
	}
	b.Waits = false
	return tx.Ties.PutBatch(b)
}
