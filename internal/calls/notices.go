package calls

import (
	"context"
	"encoding/json"
	"fmt"

	"humblemule.example/api"
	"humblemule.example/internal/post"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// notify sends a message: to an endpoint as that is set by now, by a call, or by mail.
func (s *Slots) notify(ctx context.Context, a Asked, raw json.RawMessage) (*api.CallAnswer, error) {
	var n api.Notice
	if err := json.Unmarshal(raw, &n); err != nil {
		return nil, worker.GiveUp(fmt.Errorf("the message cannot be read: %w", err))
	}
	return s.send(ctx, a, &n)
}

// Send sends a message at once, which is no job.
func (s *Slots) Send(ctx context.Context, n api.Notice) error {
	task := job.TaskCall
	if n.Mail != nil {
		task = job.TaskMail
	}
	_, err := s.send(ctx, Asked{Task: task}, &n)
	return err
}

func (s *Slots) send(ctx context.Context, a Asked, n *api.Notice) (*api.CallAnswer, error) {
	a.ID, a.Rules = n.Event.ID, new(api.Calls)
	switch {
	case n.Mail != nil:
		return nil, s.mail(ctx, n)
	case n.Command != "":
		return nil, s.commands.run(ctx, n)
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
