package bulk

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/notice"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Of how many queues it is told when they would be clear.
const queuesTold = 3

// follows says what would follow an action on the jobs that were counted: how many change and
// how, what cannot be undone, and when the queues would be clear of them.
func (op *Operator) follows(ctx context.Context, o *api.Operation, counted api.Count) ([]string, error) {
	if counted.Matched == 0 {
		return []string{"No job matches: nothing would be changed."}, nil
	}
	all := changes(o, counted)
	if o.Filter != nil && o.Filter.Error != "" {
		all = append(all, "A job matches by the words of any of its failures, not of its last one alone.")
	}
	awaited, err := op.awaited(ctx, o)
	if err != nil {
		return nil, err
	}
	all = append(all, awaited...)
	told, err := op.messages(ctx, o)
	if err != nil {
		return nil, err
	}
	all = append(all, told...)
	if !startsSoon(o) {
		return all, nil
	}
	more := counted.ByQueue
	if to := movedTo(o); to != "" {
		more = map[string]int64{to: counted.Matched}
	}
	queues := slices.SortedFunc(maps.Keys(more), func(a, b string) int { return cmp.Or(cmp.Compare(more[b], more[a]), cmp.Compare(a, b)) })
	for i, queue := range queues {
		if i == queuesTold {
			all = append(all, fmt.Sprintf("And %s.", sentence.Count(int64(len(queues)-i), "more queue", "more queues")))
			break
		}
		f, err := op.read.Forecast(ctx, api.ForecastQuery{Queue: queue, More: more[queue]})
		if errors.Is(err, job.ErrNotFound) { // it is made with the first job that comes
			all = append(all, fmt.Sprintf("There is no queue %s yet; it is made with the first of these jobs.", queue))
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, f.WithMore())
	}
	return all, nil
}

// awaited says what becomes of other jobs that wait for those that are acted on, as far as the first page of
// these tells.
func (op *Operator) awaited(ctx context.Context, o *api.Operation) ([]string, error) {
	if o.Action == api.ActPatch || o.Action == api.ActStartNow {
		return nil, nil
	}
	ids, all, err := op.nextOf(ctx, o, 0, api.MaxPage)
	if err != nil {
		return nil, err
	}
	n, most, err := op.read.AwaitedBeside(ctx, ids)
	if err != nil || n == 0 {
		return nil, err
	}
	others := sentence.Count(n, "other job waits", "other jobs wait")
	if !all || most {
		others = "At least " + others
	}
	if o.Action == api.ActRequeue {
		return []string{fmt.Sprintf("%s for these and %s on when they are done.", others, sentence.Plural(n, "goes", "go"))}, nil
	}
	return []string{fmt.Sprintf("%s for these: as %s asked, %s held until somebody acts, or %s cancelled.", others, sentence.Plural(n, "it has", "they have"), sentence.Plural(n, "it stays", "they stay"), sentence.Plural(n, "is", "are"))}, nil
}

// messages says how many messages tell of the jobs that are ended, as far as the first page of these tells.
func (op *Operator) messages(ctx context.Context, o *api.Operation) ([]string, error) {
	if o.Action != api.ActCancel {
		return nil, nil
	}
	ids, whole, err := op.nextOf(ctx, o, 0, api.MaxPage)
	if err != nil {
		return nil, err
	}
	n := 0
	err = op.c.Do(ctx, func(v *commit.View) (_ commit.Write, err error) {
		n, err = notice.Messages(v, ids, job.Cancelled)
		return nil, err
	})
	if err != nil || n == 0 {
		return nil, err
	}
	said := sentence.Count(int64(n), "message tells of it.", "messages tell of it.")
	if !whole {
		said = "At least " + said
	}
	return []string{said}, nil
}

// startsSoon tells whether an action makes jobs ready that were not.
func startsSoon(o *api.Operation) bool {
	return o.Action == api.ActRequeue || o.Action == api.ActStartNow || movedTo(o) != ""
}

// movedTo is the queue into which a patch puts jobs; empty where it leaves them in theirs.
func movedTo(o *api.Operation) string {
	p, err := job.ReadPatch(o.Patch)
	if o.Action != api.ActPatch || err != nil || !slices.Contains(p.Named, "queue") {
		return ""
	}
	return cmp.Or(p.Spec.Queue, job.DefaultQueue)
}

// changes says how many jobs change and how, and what cannot be undone.
func changes(o *api.Operation, counted api.Count) []string {
	n := counted.Matched
	jobs := sentence.Count(n, "job", "jobs")
	verb := func(one, many string) string { return sentence.Plural(n, one, many) }
	if counted.MatchedIs != api.Exact {
		jobs = "At least " + jobs
	}
	switch o.Action {
	case api.ActRequeue:
		if o.Trial > 0 && int64(o.Trial) < n {
			return []string{fmt.Sprintf("%s of %s begin a new round first. When all of these are done the rest follows; when one fails, the rest stays as it is.", sentence.Grouped(int64(o.Trial)), lower(jobs))}
		}
		return []string{fmt.Sprintf("%s %s a new round at once. What %s did before stays on record.", jobs, verb("begins", "begin"), verb("it", "they"))}
	case api.ActStartNow:
		return []string{fmt.Sprintf("%s %s ready at once, instead of waiting for %s time or next attempt. This cannot be undone, but the jobs can be cancelled.", jobs, verb("becomes", "become"), verb("its", "their"))}
	case api.ActCancel:
		return cancels(counted, jobs)
	case api.ActPatch:
		return []string{fmt.Sprintf("%s %s %s. This is not undone as a whole, but the jobs can be changed again.", jobs, verb("gets", "get"), patchWords(o.Patch))}
	}
	kept := sentence.Roughly(memory.RestorableFor)
	return []string{fmt.Sprintf("%s %s every list and count at once. %s can be brought back for %s; then %s gone.", jobs, verb("leaves", "leave"), verb("It", "They"), kept, verb("it is", "they are"))}
}

// cancels says what a cancellation does, which differs for those that are running.
func cancels(counted api.Count, jobs string) (all []string) {
	running := counted.ByState[job.Running]
	if waiting := counted.Matched - running; waiting > 0 {
		if running > 0 {
			jobs = sentence.Count(waiting, "waiting job", "waiting jobs")
		}
		all = append(all, fmt.Sprintf("%s %s cancelled and will not run; %s can be requeued later.", jobs, sentence.Plural(waiting, "is", "are"), sentence.Plural(waiting, "it", "they")))
	}
	if running > 0 {
		all = append(all, fmt.Sprintf("%s %s asked to end, within a second. %s may still finish; what %s done already is not undone.",
			sentence.Count(running, "running job", "running jobs"), sentence.Plural(running, "is", "are"), sentence.Plural(running, "Its handler", "Their handlers"), sentence.Plural(running, "it has", "they have")))
	}
	return all
}

// patchWords says what a patch sets.
func patchWords(patch json.RawMessage) string {
	var fields map[string]json.RawMessage
	if json.Unmarshal(patch, &fields) != nil {
		return "other values"
	}
	words := make([]string, 0, len(fields))
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		value := string(fields[name])
		switch {
		case name == "payload":
			words = append(words, "another payload")
			continue
		case value == "null":
			words = append(words, "the default "+name)
			continue
		}
		var plain string
		if json.Unmarshal(fields[name], &plain) == nil {
			value = plain
		}
		words = append(words, name+" "+text.Shorten(value))
	}
	return sentence.List(words)
}

func lower(text string) string { return strings.ToLower(text[:1]) + text[1:] }
