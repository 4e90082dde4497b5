package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/job"
)

// filter are the flags that say which jobs are meant.
type filter struct {
	states, queues, tasks, labels         []string
	owner, key, worker, err, since, until string
	cause, batch                          int64
}

func (f *filter) flags(c *cobra.Command) {
	fl := c.Flags()
	fl.StringSliceVar(&f.states, "state", nil, "states, such as dead,backoff")
	fl.StringSliceVar(&f.queues, "queue", nil, "queues")
	fl.StringSliceVar(&f.tasks, "task", nil, "tasks")
	fl.StringVar(&f.owner, "owner", "", "owner")
	fl.StringVar(&f.key, "key", "", "the producer's own name for the job")
	fl.StringVar(&f.worker, "worker", "", "name or id of the worker that runs the job, or ran it last")
	fl.StringArrayVar(&f.labels, "label", nil, "label, as NAME=VALUE; repeat it for several")
	fl.Int64Var(&f.cause, "cause", 0, "id of a cause, as hmule dead list shows it")
	fl.Int64Var(&f.batch, "batch", 0, "id of a batch, as hmule batch list shows it")
	fl.StringVar(&f.err, "error", "", "words in the errors of jobs")
	fl.StringVar(&f.since, "since", "", "enqueued at or after: 1h, 09:00, yesterday, 2026-11-23")
	fl.StringVar(&f.until, "until", "", "enqueued before")
}

// given tells whether any flag says which jobs are meant.
func (f *filter) given() bool {
	return len(f.states)+len(f.queues)+len(f.tasks)+len(f.labels) > 0 || f.owner+f.key+f.worker+f.err+f.since+f.until != "" || f.cause != 0 || f.batch != 0
}

// selection are the jobs that match all flags.
func (f *filter) selection() (s api.Selection, err error) {
	s = api.Selection{Queues: f.queues, Tasks: f.tasks, Owner: f.owner, Key: f.key, Worker: f.worker, Cause: f.cause, Batch: f.batch, Error: f.err}
	var wrong []error
	for _, word := range f.states {
		state, err := job.ParseState(word)
		if err != nil {
			err = usageError{fmt.Errorf("--state: %w", err)}
		}
		wrong, s.States = append(wrong, err), append(s.States, state)
	}
	s.Labels, err = labelsOf(f.labels)
	wrong = append(wrong, err)
	now := time.Now()
	s.Since, err = timeOf("since", f.since, now, before)
	wrong = append(wrong, err)
	s.Until, err = timeOf("until", f.until, now, before)
	return s, errors.Join(append(wrong, err)...)
}

// labelsOf reads labels; nil where there are none.
func labelsOf(pairs []string) (labels map[string]string, err error) {
	for _, pair := range pairs {
		name, value, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, usageError{fmt.Errorf("--label %q is not a pair; write NAME=VALUE", pair)}
		}
		if labels == nil {
			labels = map[string]string{}
		}
		if before, twice := labels[name]; twice && before != value {
			return nil, usageError{fmt.Errorf("--label gives %q twice, as %q and %q; a job has one value of it", name, before, value)}
		}
		labels[name] = value
	}
	return labels, nil
}
