package sentence

import (
	"fmt"
	"strings"
	"time"

	"humblemule.example/job"
)

// Because says in one sentence why a job is where it is; a second one tells the last error of
// a dead letter. Times stand in it as on the wire.
func Because(j *job.Job, now job.Time) string {
	switch {
	case j.WaitingBecause != "":
		return j.WaitingBecause
	case j.State == job.Running:
		return runsBecause(j, now)
	case j.State == job.Done && j.Reason == "":
		return fmt.Sprintf("Its handler finished it at %s.", j.FinishedAt)
	case j.State.Finished():
		return endedBecause(j)
	}
	return ""
}

// runsBecause says what a running job does, and whether it takes long.
func runsBecause(j *job.Job, now job.Time) string {
	if len(j.Attempts) == 0 {
		return ""
	}
	since := j.Attempts[len(j.Attempts)-1].StartedAt
	says := fmt.Sprintf("A worker runs it: try %s, since %s", strings.TrimSuffix(OfMost(j.Tries, j.MaxAttempts), ","), since)
	if took := now.Sub(since); j.LongMS > 0 && took > time.Duration(j.LongMS)*time.Millisecond {
		says += ", longer than 19 of 20 of its task's runs"
	}
	if j.CancelAskedAt != 0 {
		says += "; it was asked to end"
	}
	return says + "."
}

// endedBecause says why a job is finished.
func endedBecause(j *job.Job) string {
	says := ""
	switch j.Reason {
	case job.AttemptsUsedUp:
		says = fmt.Sprintf("All its attempts are used up: try %s failed.", OfMost(j.Tries, j.MaxAttempts))
	case job.TooOld:
		says = "Its next attempt would have come later than give_up_after allows."
	case job.TooLate:
		says = "It could not start in time."
	case job.GaveUp:
		says = "Its handler gave up: a retry would not help."
	case job.SaidByHandler:
		says = "Its handler skipped it: " + j.ReasonText + "."
	case job.Asked:
		says = "It was cancelled on request."
	case job.Superseded:
		says = "It waited for its next attempt when " + j.ReasonText + "."
	case job.OutcomeRefused:
		says = "Its handler did the work, but its follow-ups were refused. Accept it, with corrected follow-ups or without."
	default:
		says = "Ended: " + j.Reason.Meaning() + "."
	}
	if j.State == job.Dead && len(j.Attempts) > 0 {
		if last := j.Attempts[len(j.Attempts)-1]; last.Error != nil {
			says += " The last error: " + last.Error.Message
		}
	}
	return says
}
