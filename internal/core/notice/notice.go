// Package notice tells of ends of jobs. A message is itself a job, of a task of the service's own, which is
// written in the transaction of the end that it tells of: it exists if and only if that does. Nothing tells
// of the end of a message.
//
// It keeps nothing; endpoints, and the jobs that have ended in a transaction, are a part of the memory.
package notice

import (
	"fmt"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
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
	tx.Endpoints.Ended = nil
	return nil
}

// tell writes the messages of the end of one job: those that it asks for, and those to endpoints whose events
// pick it. An endpoint gets one.
func tell(tx *commit.Tx, e *memory.Ended) error {
	event, err := eventOf(tx, e)
	if err != nil {
		return err
	}
	told := map[string]bool{}
	for _, n := range e.Notify {
		if !slices.Contains(n.On, e.State) || told[n.Endpoint] {
			continue
		}
		told[n.Endpoint] = n.Endpoint != ""
		if err := Send(tx, e.Owner, api.Notice{Endpoint: n.Endpoint, Call: n.Call, Mail: n.Mail, Event: event}); err != nil {
			return err
		}
	}
	task, queue := tx.Tasks.Name(e.Task), tx.Queues.Name(e.Queue)
	var picked []string
	for name, endpoint := range tx.Endpoints.All() {
		if !told[name] && endpoint.Picks(e.State, task, queue, e.Owner) {
			picked = append(picked, name)
		}
	}
	slices.Sort(picked)
	for _, name := range picked {
		if err := Send(tx, e.Owner, api.Notice{Endpoint: name, Event: event}); err != nil {
			return err
		}
	}
	return nil
}

// Send enqueues a message. To an endpoint that is paused, or is gone by now, there is none.
func Send(tx *commit.Tx, owner string, n api.Notice) error {
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
	return api.CloudEvent{
		SpecVersion: "1.0", ID: fmt.Sprintf("%s-%d-%d-%s", tx.Facts.StoreID, e.ID, e.Round, e.State), Source: "urn:humblemule:" + tx.Facts.StoreID, Type: "humblemule.job." + e.State.String(),
		Subject: fmt.Sprintf("jobs/%d", e.ID), Time: e.FinishedAt, DataContentType: "application/json", Data: job.JSON(said),
	}, nil
}

// testEvent is what a test says.
func testEvent(tx *commit.Tx, id int64) api.CloudEvent {
	return api.CloudEvent{
		SpecVersion: "1.0", ID: fmt.Sprintf("%s-%d-test", tx.Facts.StoreID, id), Source: "urn:humblemule:" + tx.Facts.StoreID, Type: "humblemule.test",
		Subject: "test", Time: tx.Now, DataContentType: "application/json", Data: job.JSON(map[string]string{"says": "This is a test by " + tx.By + "."}),
	}
}
