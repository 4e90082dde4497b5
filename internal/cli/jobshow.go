package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// showJob shows everything about a job.
func showJob(o *present.Out, j job.Job) {
	o.Line("%s  %s", present.Strong(fmt.Sprintf("Job %d", j.ID)), present.State(j.State))
	o.Text(0, present.Local(j.Summary))
	o.Line("")
	labels := make([]string, 0, len(j.Labels))
	for _, name := range slices.Sorted(maps.Keys(j.Labels)) {
		labels = append(labels, name+"="+j.Labels[name])
	}
	at := func(t job.Time) string {
		if t == 0 {
			return ""
		}
		return present.Time(t) + present.Quiet("  "+o.Age(t))
	}
	o.Facts(
		[2]string{"task", j.Task}, [2]string{"queue", j.Queue}, [2]string{"priority", fmt.Sprint(j.Priority)},
		[2]string{"try", tries(j)}, [2]string{"round", round(j)}, [2]string{"schedule", runOf(j.Schedule)}, [2]string{"batch", inBatch(j.Batch)}, [2]string{"waits for", edgesOf(j.WaitsFor)}, [2]string{"awaited by", edgesOf(j.AwaitedBy)}, [2]string{"imported", cameFrom(j.ImportedFrom)}, [2]string{"owner", j.Owner}, [2]string{"lane", j.Lane},
		[2]string{"key", j.Key}, [2]string{"dedupe", j.Dedupe}, [2]string{"labels", strings.Join(labels, "  ")},
		[2]string{"enqueued", at(j.EnqueuedAt)}, [2]string{"not before", at(j.RunAt)}, [2]string{"started", at(j.StartedAt)}, [2]string{"finished", at(j.FinishedAt)}, [2]string{"next", at(j.NextAt)}, [2]string{"start by", at(j.StartBy)}, [2]string{"position", position(j)},
		[2]string{"cancel asked", at(j.CancelAskedAt)}, [2]string{"lease ends", at(j.LeaseEndsAt)}, [2]string{"progress", progressOf(j)}, [2]string{"usual", usually(j)},
		[2]string{"kept until", at(j.KeptUntil)},
	)
	o.Line("")
	showLimits(o, j)
	o.Line("")
	o.Facts([2]string{"payload", string(j.Payload)}, [2]string{"result", string(j.Result)}, [2]string{"result kept", until(j)})
	showSteps(o, j)
	showAttempts(o, j)
	showStack(o, j)
	switch {
	case hasLog(j):
		o.Hint("hmule job log %d", j.ID)
	case j.State.Finished() && j.State != job.Done:
		o.Hint("hmule job requeue %d", j.ID)
	}
}

// showLimits shows the limits of a job, and where each comes from.
func showLimits(o *present.Out, j job.Job) {
	attempts := "without limit"
	if j.MaxAttempts > 0 {
		attempts = fmt.Sprint(j.MaxAttempts)
	}
	keep := ""
	if j.KeepResult != nil {
		keep = j.KeepResult.String()
	}
	timeout := "none"
	if j.Timeout != 0 {
		timeout = j.Timeout.String()
	}
	from := func(text string, o job.Origin) string {
		if text == "" || o == "" {
			return text
		}
		return text + present.Quiet("  "+originWord[o])
	}
	o.Facts(
		[2]string{"max attempts", from(attempts, j.PolicyFrom.MaxAttempts)}, [2]string{"retry", from(retryOf(j.Retry), j.PolicyFrom.Retry)},
		[2]string{"timeout", from(timeout, j.PolicyFrom.Timeout)}, [2]string{"keep result", from(keep, j.PolicyFrom.KeepResult)},
	)
}

var originWord = map[job.Origin]string{job.FromJob: "from the job", job.FromTask: "from its task", job.FromQueue: "from its queue", job.BuiltIn: "built in"}

// retryOf describes a retry in a few words.
func retryOf(r *job.Retry) string {
	if r == nil {
		return ""
	}
	w := r.WithDefaults()
	parts := []string{w.Curve}
	if len(w.Delays) > 0 {
		all := make([]string, len(w.Delays))
		for i, d := range w.Delays {
			all[i] = d.String()
		}
		parts = append(parts, strings.Join(all, ", "))
	} else {
		parts = append(parts, "from "+w.First.String())
		if w.Ceiling != 0 {
			parts = append(parts, "to "+w.Ceiling.String())
		}
	}
	if w.GiveUpAfter != 0 {
		parts = append(parts, "give up after "+w.GiveUpAfter.String())
	}
	return strings.Join(parts, ", ")
}

// progressOf tells how far a running job has come, and since when it has reported nothing
// more.
func progressOf(j job.Job) string {
	if j.Progress == nil {
		return ""
	}
	return strings.TrimSpace(fmt.Sprintf("%.0f %%  %s", j.Progress.Percent, j.Progress.Note)) + present.Quiet("  reported "+present.Time(j.ReportedAt))
}

func usually(j job.Job) string {
	if j.UsualMS == 0 {
		return ""
	}
	return fmt.Sprintf("half of the task's runs take at most %s, 19 of 20 at most %s", spanOf(j.UsualMS), spanOf(j.LongMS))
}

func until(j job.Job) string {
	if j.ResultUntil == 0 {
		return ""
	}
	return "until " + present.Time(j.ResultUntil)
}

func round(j job.Job) string {
	if j.Round == 1 {
		return ""
	}
	return fmt.Sprint(j.Round)
}

// showSteps shows the parts of the work that are done once.
func showSteps(o *present.Out, j job.Job) {
	if len(j.Steps) == 0 {
		return
	}
	o.Line("")
	rows := make([][]string, len(j.Steps))
	for i, s := range j.Steps {
		rows[i] = []string{s.Name, strings.ReplaceAll(s.State, "_", " "), fmt.Sprint(s.Attempt), string(s.Result)}
	}
	o.Table([]present.Column{{Head: "step"}, {Head: "state"}, {Head: "attempt", Right: true}, {Head: "result"}}, rows)
}

func showAttempts(o *present.Out, j job.Job) {
	if len(j.Attempts) == 0 {
		return
	}
	o.Line("")
	rows := make([][]string, len(j.Attempts))
	for i, t := range j.Attempts {
		took, outcome, message := "", string(t.Outcome), ""
		if t.EndedAt != 0 {
			took = sentence.Roughly(t.EndedAt.Sub(t.StartedAt))
		} else {
			outcome = "running"
		}
		if t.Error != nil {
			message = t.Error.Type + ": " + t.Error.Message
		}
		rows[i] = []string{fmt.Sprint(t.Number), fmt.Sprint(t.Round), started(o, t.StartedAt), took, outcome, t.WorkerName, message}
	}
	o.Table([]present.Column{{Head: "attempt", Right: true}, {Head: "round", Right: true}, {Head: "started", Right: true}, {Head: "took", Right: true}, {Head: "outcome"}, {Head: "worker"}, {Head: "error"}}, rows)
	if j.AttemptsFolded > 0 {
		o.Hint("%s in between are only counted.", sentence.Count(int64(j.AttemptsFolded), "attempt", "attempts"))
	}
}

// started writes when an attempt began: the time of the day, with the day unless it is today.
func started(o *present.Out, t job.Time) string {
	at, now := t.Go().Local(), o.Now.Local()
	if at.Format(time.DateOnly) == now.Format(time.DateOnly) {
		return at.Format("15:04:05")
	}
	return at.Format("2006-01-02 15:04:05")
}

// showStack shows the stack of the last attempt that left one.
func showStack(o *present.Out, j job.Job) {
	for _, t := range slices.Backward(j.Attempts) {
		if t.Error != nil && t.Error.Stack != "" {
			o.Line("")
			o.Line("%s", present.Quiet(fmt.Sprintf("stack of attempt %d", t.Number)))
			o.Text(2, strings.TrimRight(t.Error.Stack, "\n"))
			return
		}
	}
}

func spanOf(ms int64) string { return sentence.Roughly(time.Duration(ms) * time.Millisecond) }

// position tells the place of a ready job, and when it is expected to start.
func position(j job.Job) string {
	switch {
	case j.Position == 0:
		return ""
	case j.ExpectedStart == 0:
		return fmt.Sprintf("%d in its queue", j.Position)
	}
	return fmt.Sprintf("%d in its queue, expected to start at %s", j.Position, present.Time(j.ExpectedStart))
}

// inBatch tells of which batch a job is.
func inBatch(b *job.InBatch) string {
	if b == nil {
		return ""
	}
	text := strings.TrimSpace(fmt.Sprintf("%d %s", b.ID, b.Name))
	switch {
	case b.Last:
		text += ", its last job"
	case b.Ref != "":
		text += ", as " + b.Ref
	}
	return text
}

// edgesOf lists the first jobs that one waits for, or that wait for it.
func edgesOf(e *job.Edges) string {
	if e == nil || e.Total == 0 {
		return ""
	}
	const told = 5
	var all []string
	for _, one := range e.First[:min(len(e.First), told)] {
		text := fmt.Sprint(one.Job)
		if one.State != job.Unplaced {
			text += " " + one.State.String()
		}
		all = append(all, text)
	}
	text := strings.Join(all, ", ")
	if more := e.Total - int64(len(all)); more > 0 {
		text += fmt.Sprintf(" and %s more", sentence.Grouped(more))
	}
	return text + present.Quiet(fmt.Sprintf("  %s unmet%s", sentence.Grouped(e.Unmet), fatesOf(e)))
}

// fatesOf tells what becomes of those that wait for a job, if it dies.
func fatesOf(e *job.Edges) string {
	counts := map[job.Fate]int64{}
	for _, one := range e.First {
		counts[one.Fate]++
	}
	var parts []string
	for _, of := range []struct {
		fate      job.Fate
		one, many string
	}{{job.FateHeld, "stays held", "stay held"}, {job.FateCancelled, "is cancelled", "are cancelled"}, {job.FateGoesOn, "goes on", "go on"}} {
		if n := counts[of.fate]; n > 0 {
			parts = append(parts, sentence.Count(n, of.one, of.many))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "; if this dies " + sentence.List(parts)
}

// cameFrom tells which job of which other store a job was; empty where it was enqueued here.
func cameFrom(f *job.ImportedFrom) string {
	if f == nil {
		return ""
	}
	return fmt.Sprintf("job %d of store %s", f.Job, f.Store)
}
