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
	columns := []present.Column{{Head: "id", Right: true}, {Head: "task"}, {Head: "state"}, {Head: "place", Right: true}, {Head: "starts"}, {Head: "ends"}, {Head: "ended"}}
	for _, part := range []struct {
		what string
		jobs []api.OwnedJob
	}{{"Running", told.Running}, {"Waiting", told.Waiting}, {"Ended lately", told.Finished}} {
		if len(part.jobs) == 0 {
			continue
		}
		rows := make([][]string, len(part.jobs))
		for i, j := range part.jobs {
			rows[i] = []string{fmt.Sprint(j.ID), j.Task, present.State(j.State), present.Count(j.Position), when(j.ExpectedStart), when(j.ExpectedEnd), when(j.FinishedAt)}
		}
		o.Line("")
		o.Line("%s", part.what)
		o.Table(columns, rows)
	}
	for i, b := range told.Batches {
		if i == 0 {
			o.Line("")
			o.Line("Batches that have not ended")
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
