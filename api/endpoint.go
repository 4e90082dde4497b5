package api

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"humblemule.example/internal/check"
	"humblemule.example/job"
)

// Endpoint is somebody's address for messages of ends of jobs: those jobs tell that name it, and those
// that its events pick.
type Endpoint struct {
	Name string `json:"name,omitzero"`
	// URL is where messages are posted, as CloudEvents in structured JSON.
	URL string `json:"url"`
	// Secret names a secret by which each is signed, as Standard Webhooks has it; empty for none.
	Secret string `json:"secret,omitzero"`
	// Events pick what else it is told: a message for each end that one of them picks.
	Events []EventRule `json:"events,omitzero"`
	// Paused pauses it or lets it go on; nil leaves that as it is.
	Paused *bool  `json:"paused,omitzero"`
	Note   string `json:"note,omitzero"`
}

// EventRule picks ends of jobs: in one of the states, and of one of the tasks, queues and owners, where any
// are named.
type EventRule struct {
	On     []job.State `json:"on"`
	Tasks  []string    `json:"tasks,omitzero"`
	Queues []string    `json:"queues,omitzero"`
	Owners []string    `json:"owners,omitzero"`
}

// What there may be of endpoints.
const (
	MaxEndpoints  = 1000
	MaxEventRules = 20
	mostPicked    = 100
	// EndpointLabel is the label that messages to an endpoint have.
	EndpointLabel = "endpoint"
)

// Picks tells whether the rule picks an end.
func (r *EventRule) Picks(s job.State, task, queue, owner string) bool {
	picks := func(all []string, one string) bool { return len(all) == 0 || slices.Contains(all, one) }
	return slices.Contains(r.On, s) && picks(r.Tasks, task) && picks(r.Queues, queue) && picks(r.Owners, owner)
}

// Check answers what is wrong with an endpoint, but for its host and its secret.
func (e *Endpoint) Check() []job.FieldError {
	var c check.List
	for _, w := range (&job.Spec{Task: "any", Call: &job.Call{URL: e.URL}}).Check(job.MaxPayloadBytes) {
		c.Add(strings.TrimPrefix(w.Field, "call."), "%s", w.Message)
	}
	if e.Secret != "" {
		c.Name("secret", e.Secret)
	}
	if len(e.Events) > MaxEventRules {
		c.Add("events", "are %d; at most %d are taken", len(e.Events), MaxEventRules)
	}
	for i := range e.Events {
		e.Events[i].check(&c, fmt.Sprintf("events[%d].", i))
	}
	if len(e.Note) > longestNote {
		c.Add("note", "is longer than %d bytes", longestNote)
	}
	return c
}

func (r *EventRule) check(c *check.List, at string) {
	if len(r.On) == 0 {
		c.Add(at+"on", "is missing; name the states that are told: done, skipped, cancelled, dead")
	}
	for i, s := range r.On {
		if !s.Finished() {
			c.Add(fmt.Sprintf("%son[%d]", at, i), "is of no finished job; those are done, skipped, cancelled and dead")
		}
	}
	for field, names := range map[string][]string{"tasks": r.Tasks, "queues": r.Queues, "owners": r.Owners} {
		if len(names) > mostPicked {
			c.Add(at+field, "are %d; at most %d are taken", len(names), mostPicked)
		}
		for i, name := range names {
			where := fmt.Sprintf("%s%s[%d]", at, field, i)
			if field == "owners" {
				c.Word(where, name, job.MaxWordBytes)
			} else {
				c.Name(where, name)
			}
		}
	}
}

// EndpointStatus is an endpoint as it stands.
type EndpointStatus struct {
	Endpoint
	Version   int64    `json:"version"`
	MadeAt    job.Time `json:"made_at"`
	DefinedBy string   `json:"defined_by"`
	// PausedAt is when it was paused, by whom, or why where it has paused itself.
	PausedAt  job.Time `json:"paused_at,omitzero"`
	PausedBy  string   `json:"paused_by,omitzero"`
	PausedWhy string   `json:"paused_why,omitzero"`
	// Delivered, Failed and Missed count messages: those that were taken, those that died, and those that were not
	// sent since it was paused. FailingSince is since when none was taken, of those that were tried.
	Delivered    int64         `json:"delivered"`
	Failed       int64         `json:"failed"`
	Missed       int64         `json:"missed"`
	FailingSince job.Time      `json:"failing_since,omitzero"`
	LastAt       job.Time      `json:"last_at,omitzero"`
	Warnings     []job.Warning `json:"warnings,omitzero"`
}

// Notice is the payload of a message: to whom it goes, and what it says.
type Notice struct {
	Endpoint string     `json:"endpoint,omitzero"`
	Call     *job.Call  `json:"call,omitzero"`
	Mail     *job.Mail  `json:"mail,omitzero"`
	Command  string     `json:"command,omitzero"`
	Event    CloudEvent `json:"event"`
	// More is what a mail says beside it: what has ended within a minute. Beyond is how many ends it does not name.
	More   []CloudEvent `json:"more,omitzero"`
	Beyond int64        `json:"beyond,omitzero"`
}

// CloudEvent is a message as CloudEvents 1.0 has it.
type CloudEvent struct {
	SpecVersion string `json:"specversion"`
	// ID is the same for each attempt, <store>-<job>-<round>-<state>; a requeue tells again by another.
	ID string `json:"id"`
	// Source is urn:humblemule:<store>, and Type humblemule.job.<state>.
	Source          string          `json:"source"`
	Type            string          `json:"type"`
	Subject         string          `json:"subject"`
	Time            job.Time        `json:"time"`
	DataContentType string          `json:"datacontenttype"`
	Data            json.RawMessage `json:"data"`
}

// MediaCloudEvent is the media type of a CloudEvent in structured JSON.
const MediaCloudEvent = "application/cloudevents+json; charset=utf-8"

// JobEnded is what a message of the end of a job says.
type JobEnded struct {
	ID         int64             `json:"id"`
	Task       string            `json:"task"`
	Queue      string            `json:"queue"`
	State      job.State         `json:"state"`
	Reason     job.Reason        `json:"reason,omitzero"`
	ReasonText string            `json:"reason_text,omitzero"`
	Owner      string            `json:"owner,omitzero"`
	Key        string            `json:"key,omitzero"`
	Labels     map[string]string `json:"labels,omitzero"`
	Round      int               `json:"round"`
	Tries      int               `json:"tries"`
	EnqueuedAt job.Time          `json:"enqueued_at"`
	StartedAt  job.Time          `json:"started_at,omitzero"`
	FinishedAt job.Time          `json:"finished_at"`
	Batch      int64             `json:"batch,omitzero"`
	// Error is the latest failure of a dead job.
	Error *job.Failure `json:"error,omitzero"`
}

// JobsEnded is what a message says of many jobs that an act has ended.
type JobsEnded struct {
	Count int64     `json:"count"`
	State job.State `json:"state"`
	// Operation is the action on many jobs, and By who did it.
	Operation int64  `json:"operation"`
	By        string `json:"by"`
	// Jobs are the first of them.
	Jobs []int64 `json:"jobs"`
}
