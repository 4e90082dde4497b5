package command

import (
	"errors"
	"fmt"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// followUps are the checked jobs that are enqueued as another one ends, in the shape in which they are
// stored; nil for none.
type followUps struct {
	news []*NewJob
	// joining are those that join the batch of the one that ends; they are shaped as its members once it
	// is known.
	joining []api.BatchJob
	members *members
	// newAt and joinAt are the places of both in the call.
	newAt, joinAt []int
}

// prepareFollowUps shapes those that join no batch, which are checked.
func prepareFollowUps(all []api.FollowUp) (*followUps, error) {
	if len(all) == 0 {
		return nil, nil
	}
	f := new(followUps)
	for i := range all {
		if all[i].Join {
			f.joining = append(f.joining, api.BatchJob{Ref: all[i].Ref, Spec: all[i].Spec})
			f.joinAt = append(f.joinAt, i)
			continue
		}
		n, err := Prepare(&all[i].Spec)
		if err != nil {
			return nil, err
		}
		f.news, f.newAt = append(f.news, n), append(f.newAt, i)
	}
	return f, nil
}

// num counts them.
func (f *followUps) num() int {
	if f == nil {
		return 0
	}
	return len(f.newAt) + len(f.joinAt)
}

// all are those that were shaped, with what names each for messages.
func (f *followUps) all() (news []*NewJob, at func(i int) string) {
	places := f.newAt
	if news = f.news; f.members != nil {
		news = append(news[:len(news):len(news)], f.members.jobs...)
		places = append(places[:len(places):len(places)], f.joinAt...)
	}
	return news, func(i int) string { return atFollowUp(places[i]) }
}

func atFollowUp(i int) string { return fmt.Sprintf("enqueue[%d].", i) }

// canFollowUp answers what is wrong with follow-ups of a job that their own check cannot see, and shapes
// those that join its batch.
func canFollowUp(v *commit.View, r *store.Row, f *followUps) (wrong []job.FieldError, err error) {
	if f == nil {
		return nil, nil
	}
	if f.members = nil; len(f.joining) > 0 {
		if wrong, err = f.join(v, r); wrong != nil || err != nil {
			return wrong, err
		}
	}
	news, at := f.all()
	var problem *job.Problem
	if errors.As(canName(v, news...), &problem) {
		return problem.Fields, nil
	}
	return append(canFollow(v, at, news...), canCall(v, at, news...)...), nil
}

// join shapes those that join a job's batch.
func (f *followUps) join(v *commit.View, r *store.Row) (wrong []job.FieldError, err error) {
	at := func(i int) string { return atFollowUp(f.joinAt[i]) }
	b, err := v.Store.Batch(r.Batch)
	switch {
	case err != nil:
		return nil, err
	case b == nil:
		return []job.FieldError{{Field: at(0) + "join", Message: fmt.Sprintf("job %d is of no batch that its follow-up could join", r.ID)}}, nil
	case b.Last == r.ID:
		return []job.FieldError{{Field: at(0) + "join", Message: fmt.Sprintf("job %d is the last of batch %d and has waited for all others; leave join out", r.ID, b.ID)}}, nil
	}
	f.members, wrong, err = newMembers(v, b, f.joining, at)
	return wrong, err
}

// insert writes them as a job ends.
func (f *followUps) insert(tx *commit.Tx, r *store.Row) error {
	if f == nil {
		return nil
	}
	for _, n := range f.news {
		if err := Insert(tx, n); err != nil {
			return err
		}
	}
	if f.members == nil {
		return nil
	}
	b, err := tx.Store.Batch(r.Batch)
	if err != nil || b == nil {
		return err
	}
	return f.members.insert(tx, b.ID, b.Last != 0)
}
