package command

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// canCall answers what is wrong with the calls of new jobs: a task makes calls or is done by workers, never
// both, and its calls use only secrets that are for it, at hosts that may be called.
func canCall(v *commit.View, at func(i int) string, news ...*NewJob) (wrong []job.FieldError) {
	for i, n := range news {
		if len(wrong) >= mostWrong {
			break
		}
		wrong = append(wrong, NotifyFaults(v, at(i)+"notify", n.spec.Notify, v.Endpoints.Has)...)
		for _, w := range CallFaults(v, n.spec, v.Settings.MakesCalls(v.Tasks.ID(n.task))) {
			wrong = append(wrong, job.FieldError{Field: at(i) + w.Field, Message: w.Message})
		}
	}
	return wrong
}

// CallFaults answers what is wrong with the call of a spec, or with its having none, where its task makes
// calls or not.
func CallFaults(v *commit.View, s *job.Spec, makes bool) (wrong []job.FieldError) {
	task, call := s.Task, s.Call
	switch {
	case job.IsOwn(task) && call == nil:
		return nil
	case call == nil && makes:
		return []job.FieldError{{Field: "call", Message: fmt.Sprintf("is missing: task %s makes calls, which the service does itself; give the request, or another task", task)}}
	case call == nil:
		return nil
	case !makes:
		return []job.FieldError{{Field: "call", Message: fmt.Sprintf("is not for task %s, which workers do; let the task make calls first: hmule task set %s 'calls={}'", task, task)}}
	}
	o := v.Options()
	if err := o.MayCall(call.Host()); err != nil {
		wrong = append(wrong, job.FieldError{Field: "call.url", Message: err.Error()})
	}
	for _, name := range call.Secrets() {
		if err := o.Secrets.ForTask(name, task); err != nil {
			wrong = append(wrong, job.FieldError{Field: "call.headers", Message: err.Error()})
		}
	}
	return wrong
}

// NotifyFaults answers what is wrong with whom a job tells of its end, where it cannot be told now; has tells
// which endpoints there are.
func NotifyFaults(v *commit.View, field string, all []job.Notify, has func(name string) bool) (wrong []job.FieldError) {
	o := v.Options()
	for i, n := range all {
		at := fmt.Sprintf("%s[%d].", field, i)
		switch {
		case n.Endpoint != "" && !has(n.Endpoint):
			wrong = append(wrong, job.FieldError{Field: at + "endpoint", Message: fmt.Sprintf("there is no endpoint %q; set it first: hmule endpoint set %s url=https://…", n.Endpoint, n.Endpoint)})
		case n.Mail != nil && !o.Mails():
			wrong = append(wrong, job.FieldError{Field: at + "mail", Message: "cannot be sent: the service knows no mail server; name one under mail in the file that it is started with"})
		case n.Call != nil:
			for _, w := range CallFaults(v, &job.Spec{Task: job.TaskCall, Call: n.Call}, true) {
				wrong = append(wrong, job.FieldError{Field: at + w.Field, Message: w.Message})
			}
		}
	}
	return wrong
}

// TellsAt is what names an endpoint, a task or a schedule, as in: task dues.charge. It is empty where nothing
// does, but for what skip leaves out by its kind and name.
func TellsAt(v *commit.View, endpoint string, skip func(kind, name string) bool) string {
	names := func(all []job.Notify) bool {
		return slices.ContainsFunc(all, func(n job.Notify) bool { return n.Endpoint == endpoint })
	}
	for id, t := range v.Tasks.All() {
		if d := v.Settings.Task(id); d != nil && names(d.Notify) && !skip("task", t.Name) {
			return "task " + t.Name
		}
	}
	for _, s := range v.Schedules.All() {
		if !s.Gone() && (slices.ContainsFunc(s.Is.Specs(), func(spec *job.Spec) bool { return names(spec.Notify) }) || s.Is.Batch != nil && names(s.Is.Batch.Notify)) && !skip("schedule", s.Row.Name) {
			return "schedule " + s.Row.Name
		}
	}
	if set := v.Settings.Owned().Alerts; set != nil {
		for _, name := range slices.Sorted(maps.Keys(set.Channels)) {
			if set.Channels[name].Endpoint == endpoint && !skip("alerts", name) {
				return "the channel " + name + " of the alerts"
			}
		}
	}
	return ""
}

// canCallAgain refuses a new round of a job that is a call, and its task no longer makes any, or the other
// way round; and an edited payload that is not a call.
func canCallAgain(v *commit.View, r *store.Row, edited json.RawMessage) error {
	makes, task := v.Settings.MakesCalls(r.Task), v.Tasks.Name(r.Task)
	switch {
	case job.IsOwn(task) && edited != nil:
		return job.Fault(job.WrongState, "job %d is a message of the service, whose payload stays as it is", r.ID)
	case job.IsOwn(task):
		return nil
	case r.Host == 0 && makes:
		return job.Fault(job.WrongState, "job %d was done by a worker, and task %s makes calls by now; enqueue it anew", r.ID, task)
	case r.Host != 0 && !makes:
		return job.Fault(job.WrongState, "job %d is a call, and task %s makes none any more; let it make calls again, or enqueue the job anew", r.ID, task)
	case r.Host == 0 || edited == nil:
		return nil
	}
	const refused = "the job was not requeued"
	var call job.Call
	if err := json.Unmarshal(edited, &call); err != nil {
		return job.Wrong(refused, []job.FieldError{{Field: "payload", Message: fmt.Sprintf("is not a call: %v", err)}})
	}
	spec := job.Spec{Task: task, Call: &call}
	return job.Wrong(refused, append(spec.Check(v.Options().MaxPayload), CallFaults(v, &spec, true)...))
}

// CanMakeCalls refuses to have a task make calls, or no longer make any, while jobs of it are unfinished that
// are done the other way, or a schedule or a hook enqueues such.
func CanMakeCalls(v *commit.View, name string, makes bool) error {
	t := v.Tasks.Find(name)
	if t == nil || job.IsOwn(name) || v.Settings.MakesCalls(t.ID) == makes {
		return nil
	}
	if n := v.Counts.Task(t.ID).Waiting() + v.Counts.Task(t.ID)[job.Running]; n > 0 {
		how := map[bool]string{true: "workers do; let them finish, or cancel them, before the task makes calls", false: "are calls; let them finish, or cancel them, before workers do the task"}[makes]
		return job.Fault(job.WrongState, "task %s has %s unfinished that %s", name, sentence.Count(n, "job", "jobs"), how)
	}
	return nil
}
