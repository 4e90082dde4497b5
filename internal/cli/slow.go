package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
)

func (a *app) jobSlowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "slow", Short: "List running jobs that take longer than usual", Args: args(cobra.NoArgs),
		Long: `A job is listed that has run longer than 19 of 20 attempts of its task that were done within
the last week. A task of which fewer than 30 were done is not judged.`,
		Example: "  hmule job slow",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			slow, err := m.SlowJobs(c.Context())
			if err != nil {
				return err
			}
			return a.show(slow, numbers(slow.Jobs, func(s *api.SlowJob) int64 { return s.Job }), func(o *present.Out) { showSlow(o, slow) })
		},
	}
}

func showSlow(o *present.Out, slow api.SlowJobs) {
	if slow.Total == 0 {
		o.Line("No job runs longer than usual.")
	} else {
		rows := make([][]string, len(slow.Jobs))
		for i, s := range slow.Jobs {
			rows[i] = []string{fmt.Sprint(s.Job), s.Task, s.Queue, spanOf(s.TookMS), spanOf(s.UsualMS), spanOf(s.LongMS), slowOn(s)}
		}
		o.Table([]present.Column{{Head: "id", Right: true}, {Head: "task"}, {Head: "queue"}, {Head: "takes", Right: true}, {Head: "usually", Right: true}, {Head: "19 of 20 within", Right: true}, {Head: "on"}}, rows)
	}
	if more := slow.Total - len(slow.Jobs); more > 0 {
		o.Hint("And %s.", sentence.Count(int64(more), "more job", "more jobs"))
	}
	if slow.Unjudged > 0 {
		o.Hint("%s not judged: fewer than 30 of their tasks were done within the last week.", sentence.Count(int64(slow.Unjudged), "running job is", "running jobs are"))
	}
	if slow.Total > 0 {
		o.Hint("hmule job show %d tells what it is doing", slow.Jobs[0].Job)
	}
}

// slowOn names the worker that runs a job.
func slowOn(s api.SlowJob) string {
	name := s.Name
	if name == "" {
		name = s.Worker
	}
	if s.Host != "" && s.Host != name {
		name += " on " + s.Host
	}
	return name
}
