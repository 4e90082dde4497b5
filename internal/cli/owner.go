package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) ownerCommand() *cobra.Command {
	return noun("owner", "See how the jobs of an owner stand", a.ownerShowCommand())
}

func (a *app) ownerShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show OWNER", Short: "Show what runs, waits and has ended of an owner, and until when", Args: args(cobra.ExactArgs(1)),
		Example: `  hmule owner show "Marsh Agency"`,
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.Owner(c.Context(), given[0])
			if err != nil {
				return err
			}
			return a.show(told, []string{told.Name}, func(o *present.Out) { showOwner(o, told) })
		},
	}
}

func showOwner(o *present.Out, told api.Owner) {
	o.Line("%s  %s", present.Strong(told.Name), ownedCounts(told.Counts))
	if told.ExpectedEnd != 0 {
		o.Line("All of it is expected to have ended at %s.", present.Time(told.ExpectedEnd))
	}
	when := func(t job.Time) string {
		if t == 0 {
			return ""
		}
		return present.Time(t)
	}
	part := func(what string, jobs []api.OwnedJob, columns []present.Column, rest func(j *api.OwnedJob) []string) {
		if len(jobs) == 0 {
			return
		}
		rows := make([][]string, len(jobs))
		for i := range jobs {
			j := &jobs[i]
			rows[i] = append([]string{fmt.Sprint(j.ID), j.Task, present.State(j.State)}, rest(j)...)
		}
		o.Line("")
		o.Line("%s", present.Strong(what))
		o.Table(append([]present.Column{{Head: "id", Right: true}, {Head: "task"}, {Head: "state"}}, columns...), rows)
	}
	part("Running", told.Running, []present.Column{{Head: "since"}, {Head: "expected end"}}, func(j *api.OwnedJob) []string {
		return []string{when(j.StartedAt), when(j.ExpectedEnd)}
	})
	part("Waiting", told.Waiting, []present.Column{{Head: "place", Right: true}, {Head: "expected end"}, {Head: "because"}}, func(j *api.OwnedJob) []string {
		return []string{present.Count(j.Position), when(j.ExpectedEnd), present.Local(j.WaitingBecause)}
	})
	part("Ended lately", told.Finished, []present.Column{{Head: "at"}}, func(j *api.OwnedJob) []string { return []string{when(j.FinishedAt)} })
	for i, b := range told.Batches {
		if i == 0 {
			o.Line("")
			o.Line("%s", present.Strong("Batches that have not ended"))
		}
		o.Line("  %d  %s  %s", b.ID, batchState(b), strings.TrimSpace(b.Name+" "+present.Quiet(fmt.Sprintf("%s of %s ended", sentence.Grouped(b.Finished), many(b.Jobs, "job")))))
	}
	o.Hint("hmule job list --owner %q", told.Name)
}

// ownedCounts tells how many jobs of an owner are in which state.
func ownedCounts(counts map[job.State]int64) string {
	var parts []string
	for _, s := range job.States() {
		if n := counts[s]; n > 0 {
			parts = append(parts, sentence.Grouped(n)+" "+s.String())
		}
	}
	if len(parts) == 0 {
		return "has no jobs"
	}
	return strings.Join(parts, ", ")
}
