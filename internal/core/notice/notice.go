// Package notice tells of ends of jobs. A message is itself a job, of a task of the service's own, which is
// written in the transaction of the end that it tells of: it exists if and only if that does. Nothing tells
// of the end of a message.
//
// It keeps nothing; endpoints, and the jobs that have ended in a transaction, are a part of the memory.
package notice

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// pausesAfter is for how long no message to an endpoint was taken when it pauses itself.
const pausesAfter = 3 * 24 * time.Hour

// Tell writes the messages of what has ended in the transaction.
func Tell(tx *commit.Tx) error {
	for i := 0; i < len(tx.Endpoints.Ended); i++ {
		e := &tx.Endpoints.Ended[i]
		if job.IsOwn(tx.Tasks.Name(e.Task)) {
			arrived(tx, e)
			continue
		}
		if err := tell(tx, e); err != nil {
			return err
		}
	}
	for _, b := range tx.Endpoints.BatchesEnded {
		if err := tellOfBatch(tx, &b); err != nil {
			return err
		}
	}
	tx.Endpoints.Ended, tx.Endpoints.BatchesEnded = nil, nil
	return writeMails(tx)
}

// tellOfBatch writes the messages of the end of a batch.
func tellOfBatch(tx *commit.Tx, b *memory.BatchEnded) error {
	var notify []job.Notify
	if err := json.Unmarshal([]byte(b.Notify), &notify); err != nil {
		return fmt.Errorf("batch %d: whom it tells: %w", b.ID, err)
	}
	said := api.BatchEnded{ID: b.ID, Name: b.Name, Owner: b.Owner, State: read.EndOfBatch(b.State), Jobs: b.Jobs, Counts: map[job.State]int64{}, MadeAt: b.MadeAt, FinishedAt: b.FinishedAt}
	if b.Labels != "" {
		if err := json.Unmarshal([]byte(b.Labels), &said.Labels); err != nil {
			return fmt.Errorf("batch %d: its labels: %w", b.ID, err)
		}
	}
	for _, s := range job.FinishedStates() {
		if n := b.Counts[s]; n > 0 {
			said.Counts[s] = n
		}
	}
	if n := b.Counts[store.TooLateState]; n > 0 {
		said.Counts[job.Skipped] += n
	}
	on := map[store.BatchState]job.State{store.BatchDone: job.Done, store.BatchFailed: job.Dead, store.BatchCancelled: job.Cancelled}[b.State]
	event := EventFrom(tx.Facts.StoreID, fmt.Sprintf("%d-%d-%s", b.ID, int64(b.FinishedAt), said.State), "humblemule.batch."+string(said.State), fmt.Sprintf("batches/%d", b.ID), b.FinishedAt, said)
	for _, n := range notify {
		if slices.Contains(n.On, on) {
			if err := Send(tx, b.Owner, api.Notice{Endpoint: n.Endpoint, Call: n.Call, Mail: n.Mail, Event: event}); err != nil {
				return err
			}
		}
	}
	return nil
}

// EventFrom is something that the service with a store tells, by an id within that.
func EventFrom(storeID, id, kind, subject string, at job.Time, said any) api.CloudEvent {
	return api.CloudEvent{
		SpecVersion: "1.0", ID: storeID + "-" + id, Source: "urn:humblemule:" + storeID, Type: kind,
		Subject: subject, Time: at, DataContentType: "application/json", Data: job.JSON(said),
	}
}

// tell writes the messages of the end of one job: those that it asks for, and those to endpoints whose events
// pick it. An endpoint gets one.
func tell(tx *commit.Tx, e *memory.Ended) error {
	targets := targetsOf(tx.View(), &e.Row, e.State, e.Notify)
	if e.Gathered {
		targets = slices.DeleteFunc(targets, func(n job.Notify) bool { return !n.Each })
	}
	if len(targets) == 0 {
		return nil
	}
	event, err := eventOf(tx, e)
	if err != nil {
		return err
	}
	for _, n := range targets {
		if err := Send(tx, e.Owner, api.Notice{Endpoint: n.Endpoint, Call: n.Call, Mail: n.Mail, Event: event}); err != nil {
			return err
		}
	}
	return nil
}

// targetsOf are those who are told of the end of a job: those that it asks for, and endpoints whose events pick
// it. Each is there once.
func targetsOf(v *commit.View, r *store.Row, to job.State, notify []job.Notify) (all []job.Notify) {
	told := map[string]bool{}
	for _, n := range notify {
		if slices.Contains(n.On, to) && !told[n.Endpoint] {
			told[n.Endpoint] = n.Endpoint != ""
			all = append(all, n)
		}
	}
	task, queue := v.Tasks.Name(r.Task), v.Queues.Name(r.Queue)
	var picked []string
	for name, endpoint := range v.Endpoints.All() {
		if !told[name] && endpoint.Picks(to, task, queue, r.Owner) {
			picked = append(picked, name)
		}
	}
	slices.Sort(picked)
	for _, name := range picked {
		all = append(all, job.Notify{Endpoint: name})
	}
	return all
}

// Send enqueues a message. To an endpoint that is paused, or is gone by now, there is none.
func Send(tx *commit.Tx, owner string, n api.Notice) error {
	if n.Mail != nil && n.Event.Type != api.TypeAlerts {
		mail(tx, owner, n)
		return nil
	}
	spec := job.Spec{Task: job.TaskCall, Queue: job.NoticeQueue, Owner: owner, Key: n.Event.ID, Payload: job.JSON(n)}
	host := ""
	switch {
	case n.Mail != nil:
		spec.Task = job.TaskMail
	case n.Command != "":
		spec.Task = job.TaskCommand
	case n.Call != nil:
		host = n.Call.Host()
	default:
		e := tx.Endpoints.Find(n.Endpoint)
		if e == nil {
			return nil
		}
		if e.Row.PausedAt != 0 {
			tx.Endpoints.Count(n.Endpoint).Missed++
			return nil
		}
		spec.Labels = map[string]string{api.EndpointLabel: n.Endpoint}
		host = (&job.Call{URL: e.Is.URL}).Host()
	}
	if owner == "" {
		spec.Owner = ""
	}
	made, err := command.Prepare(&spec)
	if err != nil {
		return err
	}
	if host != "" {
		made.Row.Host = store.HostHash(host)
	}
	return command.Insert(tx, made)
}

// arrived notes of a message to an endpoint how it has ended. An endpoint that has taken none for days is
// paused.
func arrived(tx *commit.Tx, e *memory.Ended) {
	row := tx.Endpoints.Count(e.LabelMap()[api.EndpointLabel])
	if row == nil {
		return
	}
	switch e.State {
	case job.Done:
		row.Delivered++
		row.LastAt, row.FailingSince = tx.Now, 0
	case job.Dead:
		row.Failed++
		if row.FailingSince == 0 {
			row.FailingSince = max(e.StartedAt, row.LastAt)
		}
		if row.PausedAt == 0 && tx.Now.Sub(row.FailingSince) >= pausesAfter {
			row.PausedAt = tx.Now
			row.PausedWhy = fmt.Sprintf("no message was taken for %s", sentence.Roughly(tx.Now.Sub(row.FailingSince)))
		}
	}
}

// eventOf is what is told of the end of a job.
func eventOf(tx *commit.Tx, e *memory.Ended) (event api.CloudEvent, err error) {
	said := api.JobEnded{
		ID: e.ID, Task: tx.Tasks.Name(e.Task), Queue: tx.Queues.Name(e.Queue), State: e.State, Reason: job.Reason(e.Reason), ReasonText: e.ReasonText, Owner: e.Owner, Key: e.Key, Labels: e.LabelMap(),
		Round: e.Round, Tries: e.Tries, EnqueuedAt: e.EnqueuedAt, StartedAt: e.StartedAt, FinishedAt: e.FinishedAt, Batch: e.Batch,
	}
	if e.State == job.Dead {
		failed, err := tx.Store.LastFailure(e.ID)
		if err != nil {
			return event, err
		}
		if failed.Type+failed.Message != "" {
			said.Error = &failed
		}
	}
	return EventFrom(tx.Facts.StoreID, fmt.Sprintf("%d-%d-%s", e.ID, e.Round, e.State), "humblemule.job."+e.State.String(), fmt.Sprintf("jobs/%d", e.ID), e.FinishedAt, said), nil
}

// testEvent is what a test says.
func testEvent(tx *commit.Tx, id int64) api.CloudEvent {
	return EventFrom(tx.Facts.StoreID, fmt.Sprintf("%d-test", id), "humblemule.test", "test", tx.Now, map[string]string{"says": "This is a test by " + tx.By + "."})
}
