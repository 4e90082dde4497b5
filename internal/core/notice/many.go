package notice

import (
	"bytes"
	"fmt"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// mostNamed is how many jobs a message of many names.
const mostNamed = 100

// Gather takes the ends that the transaction holds from a number on out of those that are told one by one, but
// for whoever wants each, and adds them up by who is told. What was gathered before stays as it is.
func Gather(tx *commit.Tx, from int, before []memory.Gathered) []memory.Gathered {
	if from == len(tx.Endpoints.Ended) {
		return before
	}
	all := slices.Clone(before)
	for i := from; i < len(tx.Endpoints.Ended); i++ {
		e := &tx.Endpoints.Ended[i]
		if job.IsOwn(tx.Tasks.Name(e.Task)) {
			continue
		}
		e.Gathered = true
		for _, n := range targetsOf(tx.View(), &e.Row, e.State, e.Notify) {
			if !n.Each {
				all = add(all, n, e)
			}
		}
	}
	return all
}

// add counts an end of which a target is told.
func add(all []memory.Gathered, n job.Notify, e *memory.Ended) []memory.Gathered {
	n.On = nil
	key := job.JSON(n)
	i := slices.IndexFunc(all, func(g memory.Gathered) bool { return g.State == e.State && bytes.Equal(job.JSON(g.To), key) })
	if i < 0 {
		i = len(all)
		all = append(all, memory.Gathered{To: n, State: e.State, Owner: e.Owner})
	}
	g := all[i]
	g.Count++
	if len(g.Jobs) < mostNamed {
		g.Jobs = append(slices.Clone(g.Jobs), e.ID)
	}
	if g.Owner != e.Owner {
		g.Owner = "" // they are of several
	}
	all[i] = g
	return all
}

// TellMany writes one message to each who was gathered of an operation.
func TellMany(tx *commit.Tx, operation int64, by string, all []memory.Gathered) error {
	for i, g := range all {
		said := api.JobsEnded{Count: g.Count, State: g.State, Operation: operation, By: by, Jobs: g.Jobs}
		event := EventFrom(tx.Facts.StoreID, fmt.Sprintf("operation-%d-%d", operation, i+1), "humblemule.jobs."+g.State.String(), fmt.Sprintf("operations/%d", operation), tx.Now, said)
		if err := Send(tx, g.Owner, api.Notice{Endpoint: g.To.Endpoint, Call: g.To.Call, Mail: g.To.Mail, Event: event}); err != nil {
			return err
		}
	}
	return nil
}

// Messages counts the messages that would tell of the ends of some jobs in a state, were they ended by one
// action.
func Messages(v *commit.View, ids []int64, to job.State) (n int, err error) {
	targets := map[string]bool{}
	for some := range slices.Chunk(ids, store.AtOnce) {
		rows, err := v.Store.Rows(some)
		if err != nil {
			return 0, err
		}
		for _, r := range rows {
			if r.State == job.Running || r.State.Finished() || job.IsOwn(v.Tasks.Name(r.Task)) {
				continue // which end by themselves, if at all
			}
			policy, err := v.Policies.Of(r.Policy)
			if err != nil {
				return 0, err
			}
			for _, target := range targetsOf(v, r, to, policy.Notify) {
				if target.Each {
					n++
					continue
				}
				target.On = nil
				targets[string(job.JSON(target))] = true
			}
		}
	}
	return n + len(targets), nil
}
