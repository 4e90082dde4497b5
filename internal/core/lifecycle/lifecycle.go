// Package lifecycle is the life of a job as a table: where a job belongs that is not running
// ([Place]), and by what it may go from one state to another ([Move]). Every change of a
// state goes through the two. It keeps nothing and reads no clock.
package lifecycle

import (
	"fmt"

	"humblemule.example/job"
)

// Waits are the facts that decide where a job that does not run belongs.
type Waits struct {
	// HeldBack is true while an unmet `after` or an unfinished earlier run
	// holds the job.
	HeldBack bool
	// NextAt is the time before which the job must not start; zero for none.
	NextAt job.Time
	// LaneTaken is true while another job of the same lane goes before it.
	LaneTaken bool
	// HostSilent is true while the host that the job calls gives no answer.
	HostSilent bool
	// Now is the time by the service's clock.
	Now job.Time
}

// Place says where a job that is not running and not finished belongs.
func Place(w Waits) job.State {
	switch {
	case w.HeldBack:
		return job.Held
	case w.NextAt > w.Now:
		return job.Scheduled
	case w.LaneTaken, w.HostSilent:
		return job.Held
	default:
		return job.Ready
	}
}

// By is what makes a job change its state.
type By uint8

// What makes jobs change their states.
const (
	ByEnqueue By = iota
	ByRequeue
	ByDue
	ByStartNow
	ByUnheld
	ByPatch
	ByCancel
	ByUndo
	ByStartBy
	ByAge
	ByLease
	BySettle
	ByLeaseEnd
	ByEndLease
	ByAccept
	BySuperseded
	ByImport
	ByDependency
	BySilence
)

// causes are the words of what makes jobs change their states, and what happens then.
var causes = [...]struct{ word, says string }{
	ByEnqueue:    {"enqueue", "it is enqueued"},
	ByRequeue:    {"requeue", "it is requeued"},
	ByDue:        {"due", "its time has come"},
	ByStartNow:   {"start_now", "it is started now by hand"},
	ByUnheld:     {"unheld", "what it waited for has changed"},
	ByPatch:      {"patch", "it is edited"},
	ByCancel:     {"cancel", "it is cancelled"},
	ByUndo:       {"undo", "its removal is undone"},
	ByStartBy:    {"start_by", "its `start_by` has passed"},
	ByAge:        {"age", "it is edited, and its `give_up_after` has passed"},
	ByLease:      {"lease", "a worker takes it"},
	BySettle:     {"settle", "its worker ends the lease with an outcome"},
	ByLeaseEnd:   {"lease_end", "its lease was not renewed, or it has overrun its timeout"},
	ByEndLease:   {"end_lease", "its lease is ended by an operator, or by its worker's end"},
	ByAccept:     {"accept", "its refused outcome is accepted"},
	BySuperseded: {"superseded", "a later run of its schedule takes its place"},
	ByImport:     {"import", "it is imported from another service, or one that had its lane is"},
	ByDependency: {"dependency", "what it waits for has not ended as it asks for, and it says `cancel`"},
	BySilence:    {"silence", "the host that it calls gives no answer"},
}

// String names it as messages do.
func (c By) String() string { return causes[c].word }

// Meaning tells what happens, as a clause.
func (c By) Meaning() string { return causes[c].says }

// set is a set of states, a bit each.
func set(states ...job.State) (mask uint16) {
	for _, s := range states {
		mask |= 1 << s
	}
	return mask
}

// placed are the states that [Place] can answer.
var placed = set(job.Held, job.Scheduled, job.Ready)

// moves is the transition table: for each of these, from which states to which.
var moves = [...][]struct{ from, to uint16 }{
	ByEnqueue:    {{set(job.Unplaced), placed}},
	ByRequeue:    {{set(job.Done, job.Skipped, job.Cancelled, job.Dead), placed}},
	ByDue:        {{set(job.Scheduled, job.Backoff), placed}},
	ByStartNow:   {{set(job.Held, job.Scheduled, job.Backoff), placed}},
	ByUnheld:     {{set(job.Held), placed}},
	ByPatch:      {{set(job.Held, job.Scheduled, job.Ready), placed}, {set(job.Backoff), set(job.Backoff)}},
	ByCancel:     {{set(job.Held, job.Scheduled, job.Ready, job.Backoff), set(job.Cancelled)}},
	ByUndo:       {{set(job.Held, job.Scheduled, job.Ready, job.Backoff), placed}},
	ByStartBy:    {{set(job.Held, job.Scheduled, job.Ready), set(job.Skipped)}},
	ByAge:        {{set(job.Backoff), set(job.Dead)}},
	ByLease:      {{set(job.Ready), set(job.Running)}},
	BySettle:     {{set(job.Running), set(job.Done, job.Skipped, job.Dead, job.Backoff, job.Cancelled) | placed}},
	ByLeaseEnd:   {{set(job.Running), set(job.Backoff, job.Dead, job.Cancelled)}},
	ByEndLease:   {{set(job.Running), placed | set(job.Cancelled)}},
	ByAccept:     {{set(job.Dead), set(job.Done)}},
	BySuperseded: {{set(job.Backoff), set(job.Dead)}, {set(job.Dead), set(job.Cancelled)}},
	ByImport:     {{set(job.Unplaced), placed | set(job.Backoff, job.Done, job.Skipped, job.Cancelled, job.Dead)}, {set(job.Ready), set(job.Held)}},
	ByDependency: {{set(job.Held), set(job.Cancelled)}},
	BySilence:    {{set(job.Ready), set(job.Held)}},
}

// Move answers nil where the transition table allows the change, and an error
// that names both states and what moves it where it does not.
func Move(from, to job.State, by By) error {
	for _, m := range moves[by] {
		if m.from&(1<<from) != 0 && m.to&(1<<to) != 0 {
			return nil
		}
	}
	return fmt.Errorf("illegal move: a %s job cannot become %s by %s", from, to, by)
}

// Changes lists what the transition table allows: by a cause, from states to states.
func Changes() (all []Change) {
	for by, allowed := range moves {
		for _, m := range allowed {
			all = append(all, Change{By(by), statesIn(m.from), statesIn(m.to)})
		}
	}
	return all
}

// Change is a line of the transition table.
type Change struct {
	By       By
	From, To []job.State
}

// statesIn lists the states of a set.
func statesIn(mask uint16) (all []job.State) {
	for _, s := range append([]job.State{job.Unplaced}, job.States()...) {
		if mask&(1<<s) != 0 {
			all = append(all, s)
		}
	}
	return all
}
