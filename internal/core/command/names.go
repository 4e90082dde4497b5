package command

import (
	"fmt"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/job"
)

// MostNames bounds the queues, and the tasks, of one service.
const MostNames = 10_000

// canName refuses jobs that would make too many queues or tasks, before
// anything is written.
func canName(v *commit.View, news ...*NewJob) error {
	if roomForNames(v, len(news)) {
		return nil
	}
	queues, tasks := make([]string, len(news)), make([]string, len(news))
	for i, n := range news {
		queues[i], tasks[i] = queueFor(v, n), n.task
	}
	return CanMake(v, queues, tasks)
}

// roomForNames tells whether so many more queues and tasks are surely not too many, of all
// and of those that whoever gives the command has made.
func roomForNames(v *commit.View, n int) bool {
	for _, names := range []*memory.NamesView{v.Queues, v.Tasks} {
		if names.Len()+n > MostNames || names.MadeBy(v.By)+n > shareOf(v, names) {
			return false
		}
	}
	return true
}

// shareOf is how many of some names one token may have made: a quarter of what others leave.
// Without tokens, and for what the service does itself, all may be used.
func shareOf(v *commit.View, names *memory.NamesView) int {
	if v.By == commit.LocalPrincipal || v.By == "" {
		return MostNames
	}
	return (MostNames - names.Len() + names.MadeBy(v.By)) / 4
}

// CanMake refuses to make queues and tasks of those names that are new, where they
// would be too many.
func CanMake(v *commit.View, queueNames, taskNames []string) error {
	if roomForNames(v, max(len(queueNames), len(taskNames))) {
		return nil
	}
	wrong := append(tooMany(v, v.Queues, "queue", "labels, owner or payload", queueNames), tooMany(v, v.Tasks, "task", "labels or payload", taskNames)...)
	return job.Wrong("no job was enqueued", wrong[:min(len(wrong), 1)])
}

// tooMany tells, where names of a kind are too many, so in words of the kind.
func tooMany(v *commit.View, names *memory.NamesView, kind, instead string, wanted []string) (wrong []job.FieldError) {
	fresh := map[string]bool{}
	for _, name := range wanted {
		if names.Find(name) == nil {
			fresh[name] = true
		}
	}
	switch share := shareOf(v, names); {
	case len(fresh) == 0:
	case share < MostNames && names.MadeBy(v.By)+len(fresh) > share:
		wrong = append(wrong, job.FieldError{Field: kind, Message: fmt.Sprintf("would be one of more than %d %ss that token %s has made; put what differs into %s", share, kind, v.By, instead)})
	case names.Len()+len(fresh) > MostNames:
		wrong = append(wrong, job.FieldError{Field: kind, Message: fmt.Sprintf("would be one of more than %d %ss; put what differs into %s", MostNames, kind, instead)})
	}
	return wrong
}
