package sentence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/job"
)

func TestWaitingBecause(t *testing.T) {
	const now = job.Time(1_795_000_000_000)
	served := Wait{State: job.Ready, Now: now, Queue: "berths", Task: "berth.plan", QueueServed: true, TaskDone: true}
	with := func(change func(*Wait)) Wait {
		w := served
		change(&w)
		return w
	}
	for want, w := range map[string]Wait{
		"It is next in queue berths and waits for a free slot.":                                                  served,
		"1 job is ahead of it in queue berths.":                                                                  with(func(w *Wait) { w.Ahead = 1 }),
		"12 jobs are ahead of it in queue berths.":                                                               with(func(w *Wait) { w.Ahead = 12 }),
		"More than 1000 jobs are ahead of it in queue berths.":                                                   with(func(w *Wait) { w.Ahead = 1001 }),
		"No worker serves queue berths. Start one that does.":                                                    with(func(w *Wait) { w.QueueServed, w.Ahead = false, 5 }),
		"No worker of queue berths does berth.plan. Start one that has its handler.":                             with(func(w *Wait) { w.TaskDone = false }),
		"No worker of queue berths does berth.plna (the nearest is berth.plan). Start one that has its handler.": with(func(w *Wait) { w.Task, w.TaskDone, w.Nearest = "berth.plna", false, "berth.plan" }),
		"It is not due until 2026-11-18T11:11:40.000Z, in 5 min.":                                                {State: job.Scheduled, Now: now, NextAt: now + 300_000},
		"Try 3 of 17 failed; the next attempt is at 2026-11-18T11:06:44.000Z, in 4.0 s.":                         {State: job.Backoff, Now: now, NextAt: now + 4000, Tries: 3, MaxAttempts: 17},
		"Try 3, without limit, failed; the next attempt is at 2026-11-18T11:06:40.000Z, now.":                    {State: job.Backoff, Now: now, NextAt: now, Tries: 3},
		"": {State: job.Running},
	} {
		assert.Equal(t, want, WaitingBecause(w))
	}
}

func TestRoughly(t *testing.T) {
	for want, d := range map[string]time.Duration{
		"0 ms": 0, "250 ms": 250 * time.Millisecond, "1.5 s": 1500 * time.Millisecond, "42 s": 42 * time.Second, "119 s": 119 * time.Second,
		"2 min": 2 * time.Minute, "119 min": 119 * time.Minute, "2 h": 2 * time.Hour, "47 h": 47 * time.Hour, "3 days": 72 * time.Hour,
	} {
		assert.Equal(t, want, Roughly(d))
	}
	for want, n := range map[string]int64{"0": 0, "999": 999, "1\u202f000": 1000, "12\u202f345\u202f678": 12_345_678, "-1\u202f000": -1000, "-999": -999} {
		assert.Equal(t, want, Grouped(n))
	}
}

// Why a job waits names what holds it, how many go first, and how long that takes.
func TestWaitingForOthers(t *testing.T) {
	now := job.Time(1_790_000_000_000)
	ready := func(set func(w *Wait)) Wait {
		w := Wait{State: job.Ready, Now: now, Queue: "berths", Task: "berth.plan", QueueServed: true, TaskDone: true}
		set(&w)
		return w
	}
	for want, w := range map[string]Wait{
		"Queue berths has its limit of 4 running; it starts when one of them ends; 1 job is ahead of it.": ready(func(w *Wait) { w.MaxRunning, w.Ahead = 4, 1 }),
		"Task berth.plan has its limit of 2 running, over all queues; it starts when one of them ends.":   ready(func(w *Wait) { w.TaskMax = 2 }),
		"Queue berths starts the next job by its rate in 3.0 s; more than 1000 jobs are ahead of it.":     ready(func(w *Wait) { w.NextStart, w.Ahead = now.Add(3*time.Second), 1001 }),
		"The owners of queue berths take turns; of those without an owner, 2 jobs are ahead of it.":       ready(func(w *Wait) { w.TakesTurns, w.OwnerAhead = true, 2 }),
		"It is next of Marsh Agency in queue berths, where the owners take turns.":                        ready(func(w *Wait) { w.TakesTurns, w.Owner = true, "Marsh Agency" }),
		"30 jobs are ahead of it in queue berths, about 2 min at its present speed.":                      ready(func(w *Wait) { w.Ahead, w.StartsPerMinute = 30, 15 }),
		"It is next in queue berths and waits for a free slot.":                                           ready(func(w *Wait) { w.NextStart = now }),
		"It is held back by other jobs.":                                                                    {State: job.Held},
		"Job 7 has lane berth-3 and is running; 2 jobs are before it in the lane.":                          {State: job.Held, Lane: "berth-3", Holder: 7, HolderState: job.Running, LaneAhead: 2},
		"Job 7 has lane b and is dead, which stops the lane; requeue it, discard it, or let the lane pass.": {State: job.Held, Lane: "b", Holder: 7, HolderState: job.Dead},
		"Job 7 has lane b and is backoff until " + now.String() + ".":                                       {State: job.Held, Lane: "b", Holder: 7, HolderState: job.Backoff, HolderNext: now},
	} {
		assert.Equal(t, want, WaitingBecause(w))
	}
}

// Whatever the state of a job, a sentence says why it is where it is.
func TestBecause(t *testing.T) {
	now := job.At(time.Date(2027, 3, 28, 6, 0, 0, 0, time.UTC))
	failed := []job.Attempt{{StartedAt: now.Add(-time.Minute), Error: &job.Failure{Message: "the mast is iced"}}}
	for want, j := range map[string]job.Job{
		"It is next.": {State: job.Ready, WaitingBecause: "It is next."},
		"A worker runs it: try 2 of 17, since 2027-03-28T05:59:00.000Z.":                                                                        {State: job.Running, Tries: 2, MaxAttempts: 17, Attempts: failed},
		"A worker runs it: try 2, without limit, since 2027-03-28T05:59:00.000Z, longer than 19 of 20 of its task's runs; it was asked to end.": {State: job.Running, Tries: 2, Attempts: failed, LongMS: 50_000, CancelAskedAt: now},
		"Its handler finished it at 2027-03-28T06:00:00.000Z.":                                                                                  {State: job.Done, FinishedAt: now},
		"All its attempts are used up: try 3 of 3 failed. The last error: the mast is iced":                                                     {State: job.Dead, Reason: job.AttemptsUsedUp, Tries: 3, MaxAttempts: 3, Attempts: failed},
		"Its handler skipped it: the ship has left.":                                                                                            {State: job.Skipped, Reason: job.SaidByHandler, ReasonText: "the ship has left"},
		"It was cancelled on request.":                                                                                                          {State: job.Cancelled, Reason: job.Asked},
		"Ended: what it waited for did not end as needed.":                                                                                      {State: job.Dead, Reason: job.DependencyDead},
		"Its handler did the work, but its follow-ups were refused. Accept it, with corrected follow-ups or without.":                           {State: job.Dead, Reason: job.OutcomeRefused},
		"It waited for its next attempt when a later run of schedule tides took its place. The last error: the mast is iced":                    {State: job.Dead, Reason: job.Superseded, ReasonText: "a later run of schedule tides took its place", Attempts: failed},
	} {
		assert.Equal(t, want, Because(&j, now))
	}
	for _, r := range job.Reasons() {
		assert.NotEmpty(t, Because(&job.Job{State: job.Cancelled, Reason: r}, now), r)
	}
}
