package cli

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) jobCommand() *cobra.Command {
	return noun("job", "List, show, change, cancel, requeue, discard jobs",
		a.jobListCommand(), a.jobSlowCommand(), a.jobShowCommand(), a.jobWhyCommand(), a.jobLogCommand(), a.jobStartCommand(), a.jobCancelCommand(), a.jobRequeueCommand(),
		a.jobAcceptCommand(), a.jobEditCommand(), a.jobDiscardCommand(), a.jobUndiscardCommand(), a.jobEndLeaseCommand())
}

func (a *app) jobListCommand() *cobra.Command {
	var f filter
	var inDoubt bool
	var ids []int64
	var order, cursor, from string
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "List jobs, newest first", Args: args(cobra.NoArgs),
		Example: "  hmule job list --state dead,backoff\n  hmule job list --queue berths --label berth=berth-3 -o json\n  hmule job list --since yesterday --task tide.predict --limit 0 -o ids",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := f.selection()
			if err != nil {
				return err
			}
			if limit < 0 {
				return usageError{fmt.Errorf("--limit %d is not valid; it is a number of jobs, or 0 for all", limit)}
			}
			want := s.Filter()
			want.InDoubt, want.IDs, want.Order, want.Cursor = inDoubt, ids, api.Order(order), cursor
			if want.From, err = strconv.ParseInt(from, 10, 64); err != nil {
				want.From = 0
				if want.FromAt, err = timeOf("from", from, time.Now(), before); err != nil {
					return err
				}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			page, err := jobsOf(c, m, want, limit)
			if err != nil {
				return err
			}
			return a.show(page, numbers(page.Jobs, func(j *job.Job) int64 { return j.ID }), func(o *present.Out) { listJobs(o, page, f.given() || inDoubt || ids != nil || from != "") })
		},
	}
	f.flags(c)
	fl := c.Flags()
	fl.BoolVar(&inDoubt, "in-doubt", false, "with a step that was begun and never finished")
	fl.Int64SliceVar(&ids, "id", nil, "ids")
	fl.StringVar(&from, "from", "", "begin with this job, or with those of a time: 4711, 09:00, yesterday")
	fl.StringVar(&order, "order", "newest", "newest, oldest, or next planned")
	fl.IntVar(&limit, "limit", 20, "how many to show; 0 for all")
	fl.StringVar(&cursor, "cursor", "", "next_cursor of an earlier page, to go on there")
	return c
}

// jobsOf reads the first jobs of a list, all where limit is 0.
func jobsOf(c *cobra.Command, m *client.Client, f api.Filter, limit int) (api.Page, error) {
	if limit > 0 && limit <= api.MaxPage {
		f.Limit = limit
		return m.ListJobs(c.Context(), f)
	}
	f.Limit = api.MaxPage
	all := m.Jobs(c.Context(), f)
	var jobs []job.Job
	var err error
	if limit == 0 {
		jobs, err = client.Collect(all)
	} else {
		jobs, err = client.First(limit, all)
	}
	return api.Page{Jobs: append([]job.Job{}, jobs...)}, err
}

func listJobs(o *present.Out, page api.Page, narrowed bool) {
	if len(page.Jobs) == 0 {
		if page.SearchedTo != 0 {
			o.Line("No job matches among those that were searched.")
			searchedTo(o, page)
			return
		}
		o.Line("No job matches.")
		if narrowed {
			return
		}
		o.Hint("hmule enqueue tide.predict '{\"station\":\"inner-quay\",\"date\":\"2026-12-01\"}'")
		return
	}
	rows := make([][]string, len(page.Jobs))
	for i, j := range page.Jobs {
		rows[i] = []string{fmt.Sprint(j.ID), present.State(j.State), j.Task, j.Queue, tries(j), o.Age(j.EnqueuedAt), note(o, j)}
	}
	o.Table([]present.Column{{Head: "id", Right: true}, {Head: "state"}, {Head: "task"}, {Head: "queue"}, {Head: "try"}, {Head: "enqueued"}, {Head: "note"}}, rows)
	switch {
	case page.SearchedTo != 0:
		searchedTo(o, page)
	case page.Matched != nil && *page.Matched > int64(len(page.Jobs)):
		o.Hint("%s match; --limit shows more.", sentence.Grouped(*page.Matched))
	case page.Matched == nil && page.NextCursor != "":
		o.Hint("There are more; --limit shows them.")
	}
}

// searchedTo says how far a list was searched, and how it goes on.
func searchedTo(o *present.Out, page api.Page) {
	far := fmt.Sprintf("job %d", page.SearchedTo)
	if page.SearchedToAt != 0 {
		far += ", enqueued " + present.Time(page.SearchedToAt)
	}
	o.Line("Searched as far as %s.", far)
	o.Hint("hmule job list --cursor %s    # searches on, with the same filters", page.NextCursor)
}

func tries(j job.Job) string {
	switch {
	case j.Tries == 0:
		return ""
	case j.MaxAttempts == 0:
		return fmt.Sprint(j.Tries)
	}
	return sentence.OfMost(j.Tries, j.MaxAttempts)
}

// note is what is most worth knowing about a job in a list.
func note(o *present.Out, j job.Job) string {
	switch {
	case j.State == job.Scheduled:
		return "starts " + o.Age(j.NextAt)
	case j.State == job.Running && j.CancelAskedAt != 0:
		return "asked to end"
	case j.State == job.Running && j.Tries == 1:
		return "started " + o.Age(j.StartedAt)
	case j.State == job.Backoff && j.LastError != nil:
		return "retry " + o.Age(j.NextAt) + ": " + j.LastError.Message
	case j.ReasonText != "":
		return j.ReasonText
	case j.State == job.Dead && j.LastError != nil:
		return j.LastError.Message
	}
	return ""
}

func (a *app) jobShowCommand() *cobra.Command {
	var wait bool
	c := &cobra.Command{
		Use: "show ID", Short: "Show everything about one job", Args: args(cobra.ExactArgs(1)), Example: "  hmule job show 42\n  hmule job show 42 --wait",
		RunE: func(c *cobra.Command, given []string) error {
			if wait {
				id, err := jobID(given[0])
				if err != nil {
					return err
				}
				return a.showFinished(c, id)
			}
			j, err := a.fetch(c, given[0])
			if err != nil {
				return err
			}
			return a.show(j, []string{fmt.Sprint(j.ID)}, func(o *present.Out) { showJob(o, j) })
		},
	}
	c.Flags().BoolVar(&wait, "wait", false, "wait until the job is finished; status 0 only if it is done")
	return c
}

// fetch reads the job that an argument names.
func (a *app) fetch(c *cobra.Command, text string) (job.Job, error) {
	id, err := jobID(text)
	if err != nil {
		return job.Job{}, err
	}
	m, err := a.client()
	if err != nil {
		return job.Job{}, err
	}
	return m.Job(c.Context(), id)
}

func (a *app) jobWhyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "why ID", Short: "Explain in one sentence why a job waits, or how it ended", Args: args(cobra.ExactArgs(1)), Example: "  hmule job why 42",
		RunE: func(c *cobra.Command, given []string) error {
			j, err := a.fetch(c, given[0])
			if err != nil {
				return err
			}
			told := struct {
				ID      int64     `json:"id"`
				State   job.State `json:"state"`
				Because string    `json:"because"`
			}{j.ID, j.State, j.Summary}
			return a.show(told, []string{fmt.Sprint(j.ID)}, func(o *present.Out) {
				o.Line("Job %d is %s.", j.ID, present.State(j.State))
				o.Text(0, present.Local(j.Summary))
			})
		},
	}
}

func (a *app) jobLogCommand() *cobra.Command {
	var follow bool
	c := &cobra.Command{
		Use: "log ID", Short: "Show what the handlers of a job wrote, attempt by attempt", Args: args(cobra.ExactArgs(1)), Example: "  hmule job log 42\n  hmule job log 42 --follow",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := jobID(given[0])
			if err != nil {
				return err
			}
			return a.jobLog(c, id, follow)
		},
	}
	c.Flags().BoolVar(&follow, "follow", false, "go on until the job is finished")
	return c
}

func (a *app) jobLog(c *cobra.Command, id int64, follow bool) error {
	m, err := a.client()
	if err != nil {
		return err
	}
	read := m.LogLines
	if follow {
		read = m.FollowLog
	}
	o := a.forPeople(a.out)
	all := []api.LogLine{}
	var last api.LogLine
	for line, err := range read(c.Context(), id) {
		if c.Context().Err() != nil {
			return interrupted{fmt.Sprintf("job %d goes on without this command", id)}
		}
		if err != nil {
			return err
		}
		if a.output == "table" {
			tellLine(o, last, line)
		} else {
			all = append(all, line)
		}
		last = line
	}
	if a.output != "table" {
		return a.show(api.Log{Lines: all}, nil, nil)
	}
	if last.Attempt == 0 {
		o.Line("The handlers of job %d have written nothing.", id)
	}
	return nil
}

// tellLine writes a line of a log, under the head of its attempt, and says where lines are
// missing because they are no longer kept.
func tellLine(o *present.Out, last, l api.LogLine) {
	if l.Attempt != last.Attempt {
		o.Line("%s", present.Strong(fmt.Sprintf("attempt %d", l.Attempt)))
		last.Line = 0
	}
	if gap := l.Line - last.Line - 1; gap > 0 {
		o.Hint("%s no longer kept", sentence.Count(int64(gap), "line is", "lines are"))
	}
	o.Line("%s  %s", present.Quiet(l.At.Go().Local().Format("15:04:05.000")), l.Text)
}

func hasLog(j job.Job) bool {
	return slices.ContainsFunc(j.Attempts, func(t job.Attempt) bool { return t.LogLines > 0 })
}
