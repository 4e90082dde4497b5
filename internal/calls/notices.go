package calls

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/post"
	"humblemule.example/internal/text"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// notify sends a message: to an endpoint as that is set by now, by a call, or by mail.
func (s *Slots) notify(ctx context.Context, a Asked, raw json.RawMessage) (*api.CallAnswer, error) {
	var n api.Notice
	if err := json.Unmarshal(raw, &n); err != nil {
		return nil, worker.GiveUp(fmt.Errorf("the message cannot be read: %w", err))
	}
	a.ID, a.Rules = n.Event.ID, new(api.Calls)
	switch {
	case n.Mail != nil:
		return nil, s.mail(ctx, &n)
	case n.Call != nil:
		a.Call = *n.Call
	default:
		e, _, there := s.engine.EndpointAsSet(n.Endpoint)
		if !there {
			return nil, worker.GiveUp(failure("endpoint_gone", "endpoint %s was deleted", n.Endpoint))
		}
		a.Call, a.Rules.Sign = job.Call{URL: e.URL}, e.Secret
	}
	a.Call.Body = job.JSON(n.Event)
	if a.Call.Method == "" {
		a.Call.Method = "POST"
	}
	headers := map[string]job.HeaderValue{"Content-Type": {Text: api.MediaCloudEvent}}
	for name, v := range a.Call.Headers {
		headers[name] = v
	}
	a.Call.Headers = headers
	return s.caller.Make(ctx, a)
}

// mail sends a message by mail.
func (s *Slots) mail(ctx context.Context, n *api.Notice) error {
	letter, err := letterOf(n)
	if err == nil {
		err = s.office.Send(ctx, letter)
	}
	switch {
	case err == nil:
		return nil
	case post.Refused(err):
		return worker.GiveUp(&fault{"mail_refused", err})
	}
	return &fault{"mail", err}
}

// letterOf writes a message as a mail.
func letterOf(n *api.Notice) (*post.Letter, error) {
	l := &post.Letter{ID: n.Event.ID, To: n.Mail.To}
	var j api.JobEnded
	if err := json.Unmarshal(n.Event.Data, &j); err != nil {
		return nil, err
	}
	l.Subject = fmt.Sprintf("%s: job %d is %s", j.Task, j.ID, j.State)
	l.Lines = []string{fmt.Sprintf("Job %d (%s) is %s%s.", j.ID, j.Task, j.State, because(&j))}
	if j.Error != nil {
		l.Lines = append(l.Lines, "The last error: "+text.Cut(text.Visible(strings.TrimSpace(j.Error.Message)), mostHeaderText))
	}
	fact := func(name, value string) {
		if value != "" {
			l.Facts = append(l.Facts, [2]string{name, value})
		}
	}
	fact("queue", j.Queue)
	fact("owner", j.Owner)
	fact("key", j.Key)
	fact("tries", fmt.Sprint(j.Tries))
	fact("enqueued", j.EnqueuedAt.Go().UTC().Format("2 January 2006, 15:04:05 UTC"))
	fact("ended", j.FinishedAt.Go().UTC().Format("2 January 2006, 15:04:05 UTC"))
	fact("command", fmt.Sprintf("hmule job show %d", j.ID))
	l.Path = fmt.Sprintf("/jobs/%d", j.ID)
	if n.Mail.Subject != "" {
		l.Subject = n.Mail.Subject + " " + l.Subject
	}
	return l, nil
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
