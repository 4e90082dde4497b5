package read

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// causesFound is how many causes a search by text brings at most.
const causesFound = 50

// search is a filter with what its cause and its error come down to.
type search struct {
	*api.Filter
	in scope.Scope
	// causes are those of the jobs that match, where byCause is true.
	causes  []int64
	byCause bool
	// own is true where the error is in no cause's wording: then each job's own latest
	// error says whether it matches.
	own bool
}

func (rd *Reader) searchFor(ctx context.Context, f *api.Filter) (s search, err error) {
	s.Filter, s.in = f, scope.Of(ctx)
	switch {
	case f.Cause != 0:
		s.causes, s.byCause = []int64{f.Cause}, true
	case f.Error != "":
		if s.causes, err = rd.store.CausesWith(ctx, f.Error, causesFound+1); err != nil {
			return s, err
		}
		if len(s.causes) > causesFound {
			return s, job.Wrong("the list was not read", []job.FieldError{{Field: "error", Message: fmt.Sprintf("matches more than %d causes; write more of the text", causesFound)}})
		}
		s.byCause, s.own = len(s.causes) > 0, len(s.causes) == 0
	}
	if s.own {
		failed := *f
		failed.States = slices.DeleteFunc(slices.Clone(f.States), func(st job.State) bool { return !memory.Causing(st) })
		if len(f.States) == 0 {
			failed.States = []job.State{job.Backoff, job.Dead}
		}
		s.Filter = &failed
	}
	return s, nil
}

// keep leaves those rows that match.
func (rd *Reader) keep(ctx context.Context, s *search, rows []*store.Row) ([]*store.Row, error) {
	rows = slices.DeleteFunc(rows, func(r *store.Row) bool { return !rd.matches(s, r) })
	if !s.own || len(rows) == 0 {
		return rows, nil
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	failed, err := rd.store.LastFailures(ctx, ids)
	text := strings.ToLower(s.Error)
	return slices.DeleteFunc(rows, func(r *store.Row) bool {
		f := failed[r.ID]
		return f == nil || !strings.Contains(strings.ToLower(f.Type+"\n"+f.Message), text)
	}), err
}

// causesWith finds the causes whose wording holds a text or, where there is none, those of
// the jobs whose own latest error does.
func (rd *Reader) causesWith(ctx context.Context, f api.CauseFilter) ([]int64, error) {
	causes, err := rd.store.CausesWith(ctx, f.Error, memory.MostCauses)
	if err != nil || len(causes) > 0 {
		return causes, err
	}
	jobs := api.Filter{States: []job.State{f.State}, Error: f.Error}
	if f.Queue != "" {
		jobs.Queues = []string{f.Queue}
	}
	if f.Task != "" {
		jobs.Tasks = []string{f.Task}
	}
	found, last, err := rd.Matching(ctx, &jobs, 0, api.MaxSearched)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 && last != 0 {
		return nil, job.Wrong("the causes were not read", []job.FieldError{{Field: "error", Message: fmt.Sprintf("is not in the wording of any cause, nor in the first %d errors that were looked at, and there are more; narrow it to a queue or a task", api.MaxSearched)}})
	}
	rows, err := rd.store.Read(ctx, found)
	for _, r := range rows {
		if !slices.Contains(causes, r.Cause) {
			causes = append(causes, r.Cause)
		}
	}
	return causes, err
}
