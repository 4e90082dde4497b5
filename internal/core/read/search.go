package read

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/words"
	"humblemule.example/job"
)

// search is a filter with what its error comes down to.
type search struct {
	*api.Filter
	in scope.Scope
	// workers are the numbers of those that are asked for by Worker.
	workers []int64
	// wording is nil where no error is looked for.
	*wording
}

// wording is what an error is looked for by: each of its words, or the cause of the job.
type wording struct {
	// groups are the words, each with those that stand for it, in lower case; query is their hashes.
	groups [][]string
	query  words.Query
	// causes are those whose template holds all words.
	causes map[int64]bool
}

// mostAlike is how many words stand for one that they begin with.
const mostAlike = 100

// wordingOf reads which words a text asks for. A word that no template holds stands for those of
// templates that begin with it, so that one finds something before one has written it whole.
func (rd *Reader) wordingOf(ctx context.Context, text string) (*wording, error) {
	wanted := slices.Compact(slices.Sorted(words.In(strings.ToLower(text))))
	if len(wanted) == 0 {
		return nil, job.Wrong("the list was not read", []job.FieldError{{Field: "error", Message: "holds no word; write letters or digits of the error"}})
	}
	if len(wanted) > words.Most {
		return nil, job.Wrong("the list was not read", []job.FieldError{{Field: "error", Message: fmt.Sprintf("has %d different words, of which %d are too many; leave some out", len(wanted), len(wanted)-words.Most)}})
	}
	templates := map[int64]map[string]bool{}
	every := map[string]bool{}
	err := rd.store.Wordings(ctx, func(id int64, errorType, template string) {
		has := map[string]bool{}
		for word := range words.In(strings.ToLower(errorType + "\n" + template)) {
			has[word], every[word] = true, true
		}
		templates[id] = has
	})
	w := &wording{causes: map[int64]bool{}}
	for id := range templates {
		w.causes[id] = true
	}
	for _, word := range wanted {
		group := alike(word, every)
		hashes := make([]uint32, len(group))
		for i, one := range group {
			hashes[i] = words.Hash(one)
		}
		w.groups, w.query = append(w.groups, group), append(w.query, hashes)
		for id := range w.causes {
			if !slices.ContainsFunc(group, func(one string) bool { return templates[id][one] }) {
				delete(w.causes, id)
			}
		}
	}
	return w, err
}

// alike gives a word and, where none is like it, those that begin with it.
func alike(word string, every map[string]bool) []string {
	group := []string{word}
	if every[word] {
		return group
	}
	for other := range every {
		if strings.HasPrefix(other, word) && len(group) < mostAlike {
			group = append(group, other)
		}
	}
	return group
}

// is tells whether a failure is one that is looked for.
func (w *wording) is(f *store.Failed) bool {
	return w.causes[f.Cause] || w.mayBe(f) && w.query.In(words.OfFailure(f.Type, f.Message))
}

// mayBe tells whether a failure holds the words as parts of others at least, which is found out
// sooner.
func (w *wording) mayBe(f *store.Failed) bool {
	text := strings.ToLower(f.Type + "\n" + f.Message)
	for _, group := range w.groups {
		if !slices.ContainsFunc(group, func(word string) bool { return strings.Contains(text, word) }) {
			return false
		}
	}
	return true
}

func (rd *Reader) searchFor(ctx context.Context, f *api.Filter) (s search, err error) {
	s.Filter, s.in = f, scope.Of(ctx)
	if f.Worker != "" {
		if s.workers, err = rd.workersCalled(ctx, f.Worker); err != nil {
			return s, err
		}
	}
	if f.Error != "" {
		s.wording, err = rd.wordingOf(ctx, f.Error)
	}
	return s, err
}

// workersCalled finds the workers of an id or a name.
func (rd *Reader) workersCalled(ctx context.Context, text string) ([]int64, error) {
	found, err := rd.store.WorkersCalled(ctx, text, api.MaxNamesakes+1)
	if err == nil && len(found) > api.MaxNamesakes {
		err = job.Wrong("the list was not read", []job.FieldError{{Field: "worker", Message: fmt.Sprintf("is the name of more than %d workers; name one by its id, as GET /v1/workers tells it", api.MaxNamesakes)}})
	}
	return found, err
}

// keep leaves those rows that match.
func (rd *Reader) keep(ctx context.Context, s *search, rows []*store.Row) ([]*store.Row, error) {
	rows = slices.DeleteFunc(rows, func(r *store.Row) bool { return !rd.matches(s, r) })
	if s.wording == nil || len(rows) == 0 {
		return rows, nil
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	failed := map[int64]bool{}
	err := rd.store.FailedOf(ctx, ids, func(f *store.Failed) { failed[f.Job] = failed[f.Job] || s.is(f) })
	return slices.DeleteFunc(rows, func(r *store.Row) bool { return !failed[r.ID] }), err
}

// What finding by words looks at in one go: rows of blocks, and failures.
const (
	mostBlocks = 20_000
	mostFailed = 5_000
)

// withWords gives the places of jobs that have failed with some words, in order of their ids, and
// now and then one that has not, which tells how far it has looked.
func (rd *Reader) withWords(w *wording, after int64, newest bool) source {
	walk := &wordWalk{rd: rd, wording: w, after: after, newest: newest, beyond: store.BlockOf(after) - 1}
	if newest {
		walk.beyond = store.BlockOf(after-1) + 1
	}
	return func(ctx context.Context, n int) (found []place, err error) {
		for looked := 0; len(found) < n; {
			if len(walk.blocks) == 0 {
				if walk.ended {
					return found, nil
				}
				if err := walk.findBlocks(ctx); err != nil {
					return nil, err
				}
				continue
			}
			ids, seen, err := walk.inBlock(ctx, n-len(found), mostFailed-looked)
			if err != nil {
				return nil, err
			}
			found = append(found, places(ids)...)
			if looked += seen; looked >= mostFailed {
				if k := len(found); k == 0 || found[k-1].id != walk.after {
					found = append(found, place{id: walk.after})
				}
				found[len(found)-1].looked = looked
				return found, nil
			}
		}
		return found, nil
	}
}

// wordWalk is how far jobs were looked for by their words.
type wordWalk struct {
	*wording
	rd     *Reader
	newest bool
	// after is the job beyond which the walk goes on, and beyond the block after which the blocks
	// that are known end.
	after, beyond int64
	blocks        []int64
	ended         bool
}

func (k *wordWalk) findBlocks(ctx context.Context) (err error) {
	var looked int
	k.blocks, k.beyond, looked, err = k.rd.store.BlocksWith(ctx, k.query, k.beyond, k.newest, mostBlocks)
	k.ended = looked < mostBlocks
	return err
}

// inBlock looks through the failures of the first block.
func (k *wordWalk) inBlock(ctx context.Context, most, mostSeen int) (found []int64, seen int, err error) {
	first, last := store.JobsOf(k.blocks[0])
	from, to := max(k.after, first-1), last
	if k.newest {
		from, to = min(k.after, last+1), first
	}
	whole := true
	err = k.rd.store.FailedWithin(ctx, from, to, k.newest, func(f *store.Failed) bool {
		if k.after != f.Job && (len(found) >= most || seen >= mostSeen) {
			whole = false
			return false
		}
		k.after = f.Job
		seen++
		if (len(found) == 0 || found[len(found)-1] != f.Job) && k.is(f) {
			found = append(found, f.Job)
		}
		return true
	})
	if whole {
		k.blocks = k.blocks[1:]
	}
	return found, seen, err
}

// causesWith finds the causes whose wording holds a text, and those of jobs that have failed with
// its words.
func (rd *Reader) causesWith(ctx context.Context, f api.CauseFilter) ([]int64, error) {
	w, err := rd.wordingOf(ctx, f.Error)
	if err != nil {
		return nil, err
	}
	var causes []int64
	for id := range w.causes {
		causes = append(causes, id)
	}
	jobs := api.Filter{States: []job.State{f.State}, Error: f.Error}
	if f.Queue != "" {
		jobs.Queues = []string{f.Queue}
	}
	if f.Task != "" {
		jobs.Tasks = []string{f.Task}
	}
	most := api.MaxSearched
	if len(causes) > 0 { // what is found besides need not be whole
		most /= 10
	}
	last, err := rd.walk(ctx, &jobs, 0, most, func(r *store.Row) {
		if !slices.Contains(causes, r.Cause) {
			causes = append(causes, r.Cause)
		}
	})
	if err != nil {
		return nil, err
	}
	if len(causes) == 0 && last != 0 {
		return nil, job.Wrong("the causes were not read", []job.FieldError{{Field: "error", Message: "is not in the wording of any cause, nor in the errors that were looked at, and there are more; narrow it to a queue or a task"}})
	}
	return causes, err
}
