package calls

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/post"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// letterOf writes a message as a mail.
func letterOf(n *api.Notice) (*post.Letter, error) {
	l := &post.Letter{ID: n.Event.ID, To: n.Mail.To}
	if err := ofEvent(l, &n.Event); err != nil {
		return nil, err
	}
	for i := range n.More {
		var more post.Letter
		if err := ofEvent(&more, &n.More[i]); err != nil {
			return nil, err
		}
		l.Parts = append(l.Parts, more.Parts...)
	}
	if all := int64(len(n.More)) + 1 + n.Beyond; all > 1 {
		l.Subject = fmt.Sprintf("%s messages; the first: %s", sentence.Grouped(all), l.Subject)
	}
	if n.Beyond > 0 {
		l.Parts = append(l.Parts, post.Part{Lines: []string{fmt.Sprintf("And %s, which a mail does not hold.", sentence.Count(n.Beyond, "more end", "more ends"))}, Path: "/jobs"})
	}
	if n.Mail.Subject != "" {
		l.Subject = n.Mail.Subject + " " + l.Subject
	}
	return l, nil
}

// ofEvent writes of one event.
func ofEvent(l *post.Letter, event *api.CloudEvent) error {
	switch kind := event.Type; {
	case kind == api.TypeAlerts:
		return ofAlerts(l, event)
	case strings.HasPrefix(kind, "humblemule.jobs."):
		return ofJobs(l, event.Data)
	case strings.HasPrefix(kind, "humblemule.batch."):
		return ofBatch(l, event.Data)
	}
	return ofJob(l, event.Data)
}

// ofJob writes of the end of a job.
func ofJob(l *post.Letter, raw json.RawMessage) error {
	var j api.JobEnded
	if err := json.Unmarshal(raw, &j); err != nil {
		return err
	}
	l.Subject = fmt.Sprintf("%s: job %d is %s", j.Task, j.ID, j.State)
	p := post.Part{Path: fmt.Sprintf("/jobs/%d", j.ID)}
	p.Lines = []string{fmt.Sprintf("Job %d (%s) is %s%s.", j.ID, j.Task, j.State, because(&j))}
	if j.Error != nil {
		p.Lines = append(p.Lines, "The last error: "+text.Cut(text.Visible(strings.TrimSpace(j.Error.Message)), mostHeaderText))
	}
	p.Facts = facts("queue", j.Queue, "owner", j.Owner, "key", j.Key, "tries", fmt.Sprint(j.Tries), "enqueued", inLetter(j.EnqueuedAt), "ended", inLetter(j.FinishedAt), "command", fmt.Sprintf("hmule job show %d", j.ID))
	l.Parts = []post.Part{p}
	return nil
}

// ofJobs writes of many jobs that an action has ended.
func ofJobs(l *post.Letter, raw json.RawMessage) error {
	var j api.JobsEnded
	if err := json.Unmarshal(raw, &j); err != nil {
		return err
	}
	jobs := sentence.Count(j.Count, "job is", "jobs are") + " " + j.State.String()
	l.Subject = jobs
	var first []string
	for _, id := range j.Jobs[:min(len(j.Jobs), 10)] {
		first = append(first, fmt.Sprint(id))
	}
	l.Parts = []post.Part{{
		Lines: []string{fmt.Sprintf("%s, by %s.", jobs, j.By)}, Path: "/log",
		Facts: facts("the first", strings.Join(first, ", "), "operation", fmt.Sprint(j.Operation), "command", fmt.Sprintf("hmule operation show %d", j.Operation)),
	}}
	return nil
}

// ofBatch writes of the end of a batch.
func ofBatch(l *post.Letter, raw json.RawMessage) error {
	var b api.BatchEnded
	if err := json.Unmarshal(raw, &b); err != nil {
		return err
	}
	name := fmt.Sprintf("Batch %d", b.ID)
	if b.Name != "" {
		name += " (" + b.Name + ")"
	}
	end := map[api.BatchState]string{api.BatchDone: "is done", api.BatchFailed: "has failed", api.BatchCancelled: "was cancelled"}[b.State]
	l.Subject = name + " " + end
	var counts []string
	for _, s := range job.FinishedStates() {
		if n := b.Counts[s]; n > 0 {
			counts = append(counts, fmt.Sprintf("%s %s", sentence.Grouped(n), s))
		}
	}
	l.Parts = []post.Part{{
		Lines: []string{name + " " + end + "."}, Path: fmt.Sprintf("/batches/%d", b.ID),
		Facts: facts("owner", b.Owner, "jobs", strings.Join(counts, ", "), "made", inLetter(b.MadeAt), "ended", inLetter(b.FinishedAt), "command", fmt.Sprintf("hmule batch show %d", b.ID)),
	}}
	return nil
}

// facts are names with their values, but for those that are empty.
func facts(pairs ...string) (all [][2]string) {
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			all = append(all, [2]string{pairs[i], pairs[i+1]})
		}
	}
	return all
}

// inLetter is a time as letters tell it; empty for none.
func inLetter(t job.Time) string {
	if t == 0 {
		return ""
	}
	return t.Go().UTC().Format("2 January 2006, 15:04:05 UTC")
}

var times = regexp.MustCompile(`\d{4}-\d\d-\d\dT[\d:.]+Z`)

// withTimes writes the times within a sentence as letters tell them.
func withTimes(sentence string) string {
	return times.ReplaceAllStringFunc(sentence, func(text string) string {
		var t job.Time
		if t.UnmarshalText([]byte(text)) != nil {
			return text
		}
		return inLetter(t)
	})
}

// ofAlerts writes of alerts.
func ofAlerts(l *post.Letter, event *api.CloudEvent) error {
	var told api.AlertsTold
	if err := json.Unmarshal(event.Data, &told); err != nil {
		return err
	}
	l.Subject = event.Subject
	if told.Test != "" {
		l.Parts = []post.Part{{Lines: []string{"This is a test.", fmt.Sprintf("%s wanted to see whether messages of alerts arrive here. They do.", told.Test)}, Path: "/alerts"}}
		return nil
	}
	several := len(told.Opened)+len(told.Still)+len(told.Over) > 1
	for _, group := range []struct {
		heading string
		alerts  []api.Alert
	}{{"New", told.Opened}, {"Not over yet", told.Still}, {"Over", told.Over}} {
		for i, a := range group.alerts {
			p := ofAlert(&a)
			if i == 0 && (several || a.OverAt != 0) {
				p.Heading = group.heading
			}
			l.Parts = append(l.Parts, p)
		}
	}
	if told.More > 0 {
		l.Parts = append(l.Parts, post.Part{Lines: []string{fmt.Sprintf("And %s.", sentence.Count(int64(told.More), "more alert", "more alerts"))}, Facts: facts("command", "hmule alert list"), Path: "/alerts"})
	}
	return nil
}

// ofAlert writes of one alert.
func ofAlert(a *api.Alert) post.Part {
	p := post.Part{Lines: []string{withTimes(a.Text)}, Path: fmt.Sprintf("/alerts/%d", a.ID)}
	if a.ID == 0 {
		p.Path = "/alerts"
	}
	if a.Detail != "" && a.OverAt == 0 {
		p.Lines = append(p.Lines, withTimes(a.Detail))
	}
	seen := ""
	if a.SeenBy != "" {
		seen = fmt.Sprintf("%s, %s", a.SeenBy, inLetter(a.SeenAt))
	}
	if a.OverAt != 0 {
		p.Facts = facts("rule", a.Rule, "since", inLetter(a.Since), "over", inLetter(a.OverAt), "it lasted", sentence.Roughly(a.OverAt.Sub(a.Since)), "seen by", seen, "note", a.Note)
		return p
	}
	p.Facts = facts("severity", a.Severity, "rule", a.Rule, "since", inLetter(a.Since), "likely", withTimes(a.Likely), "to do", a.Mend, "command", a.Command, "seen by", seen, "note", a.Note)
	return p
}

// because says why a job is in its state, where that is more than the state says.
func because(j *api.JobEnded) string {
	says := map[job.Reason]string{
		job.AttemptsUsedUp: " after its last attempt", job.TooOld: ", since its next attempt would come too late", job.GaveUp: ": its handler gave up", job.TooLate: ": it was not started in time",
		job.OutcomeRefused: ": its outcome was refused", job.DependencyDead: ": what it waited for has not ended as it asks for",
	}[j.Reason]
	if says == "" && j.ReasonText != "" {
		says = ": " + strings.TrimSuffix(text.Cut(text.Visible(j.ReasonText), mostSaid), ".")
	}
	return says
}
