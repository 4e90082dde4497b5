package lifecycle

import "humblemule.example/job"

// Wants is what a job waits for in others, as a number that is stored.
type Wants uint8

// What a job waits for in others; the zero Wants for nothing.
const (
	// WantsDone: that each is done, and it waits on where one ends otherwise; WantsDoneOrCancel: the
	// same, and it is cancelled then; WantsEnd: that each has ended.
	WantsDone Wants = iota + 1
	WantsDoneOrCancel
	WantsEnd
)

// WantsOf is what a rule asks for.
func WantsOf(a job.After) Wants {
	switch {
	case a.When == job.WhenFinished:
		return WantsEnd
	case a.IfNot == job.IfNotCancel:
		return WantsDoneOrCancel
	}
	return WantsDone
}

// Rule is what was asked for, in words.
func (w Wants) Rule() (job.AfterWhen, job.AfterIfNot) {
	switch w {
	case WantsEnd:
		return job.WhenFinished, ""
	case WantsDoneOrCancel:
		return job.WhenDone, job.IfNotCancel
	}
	return job.WhenDone, job.IfNotHold
}

// How is how a job has ended, for those that wait for it.
type How uint8

// How a job may have ended; the numbers are stored.
const (
	// EndedDone: it is done, or its handler has skipped it; EndedOtherwise: it is cancelled, dead, or
	// came too late.
	EndedDone How = iota + 1
	EndedOtherwise
	// SweptUnfinished: it was deleted before it had ended; SweptFinished: after that.
	SweptUnfinished
	SweptFinished
	// EndedLongAgo: it has ended otherwise, and would not be kept any longer if nothing waited for it.
	EndedLongAgo
	// BatchOver is that of a batch, whose jobs nothing waits for any more.
	BatchOver
)

// HowEnded tells how a job in a finished state has ended.
func HowEnded(s job.State, r job.Reason) How {
	if s == job.Done || s == job.Skipped && r == job.SaidByHandler {
		return EndedDone
	}
	return EndedOtherwise
}

// Fate is what an end means to a job that waits for it.
type Fate uint8

// What an end may mean.
const (
	Nothing Fate = iota
	// Met: it is what was waited for; Cancels: the job that waits is cancelled; Gone: nothing will
	// ever meet it.
	Met
	Cancels
	Gone
)

// FateOf tells what an end means to a job that wants something.
func FateOf(h How, w Wants) Fate {
	switch {
	case h == EndedDone, w == WantsEnd && h != SweptFinished:
		return Met
	case w == WantsDoneOrCancel && h != SweptFinished, h == EndedLongAgo:
		return Cancels
	case h == SweptUnfinished, h == SweptFinished:
		return Gone
	}
	return Nothing
}
