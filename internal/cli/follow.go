package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) followCommand() *cobra.Command {
	return noun("follow", "Follow labels: count their jobs, and see what moves among them",
		a.followListCommand(), a.followSetCommand(), a.followShowCommand(), a.followDeleteCommand())
}

// waitingOf counts the jobs that wait, for whatever.
func waitingOf(counts map[job.State]int64) int64 {
	return counts[job.Held] + counts[job.Scheduled] + counts[job.Ready] + counts[job.Backoff]
}

func (a *app) followListCommand() *cobra.Command {
	return listCommand(a, "follows", "List the labels that are followed, with their jobs by state", (*client.Client).Follows, func(f *api.Follow) string { return f.Name }, listFollows)
}

func listFollows(o *present.Out, all []api.Follow) {
	if len(all) == 0 {
		o.Line("No label is followed.")
		o.Hint("hmule follow set acme customer=acme")
		return
	}
	columns := []present.Column{{Head: "name"}, {Head: "label"}, {Head: "waiting", Right: true}, {Head: "running", Right: true}, {Head: "done", Right: true}, {Head: "dead", Right: true}, {Head: "since"}}
	rows := make([][]string, len(all))
	for i, f := range all {
		n := f.Counts
		rows[i] = []string{f.Name, f.Label.Name + "=" + f.Label.Value, sentence.Grouped(waitingOf(n)), sentence.Grouped(n[job.Running]), sentence.Grouped(n[job.Done]), sentence.Grouped(n[job.Dead]), present.Time(f.MadeAt)}
	}
	o.Table(columns, rows)
	o.Hint("hmule history --by follow --since 24h    # what moved among them")
}

func (a *app) followSetCommand() *cobra.Command {
	return &cobra.Command{
		Use: "set NAME LABEL=VALUE", Short: "Follow a label", Args: args(cobra.ExactArgs(2)), Example: "  hmule follow set acme customer=acme\n  hmule follow set berth-3 berth=berth-3",
		Long: `Follows a label under a name. Its jobs are counted by their states, those that are there too; what moves among them is told by
hmule history --follow NAME, from now on. At most 100 labels are followed.`,
		RunE: func(c *cobra.Command, given []string) error {
			return a.withFollow(c.Context(), func(m *client.Client, ctx context.Context) (api.Follow, error) {
				var label api.NewFollow
				if err := label.UnmarshalText([]byte(given[1])); err != nil || label.Value == "" {
					return api.Follow{}, usageError{fmt.Errorf("%q is not a label; write name=value, as in: hmule follow set acme customer=acme", given[1])}
				}
				return m.Follow(ctx, given[0], label)
			})
		},
	}
}

func (a *app) followShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show how many jobs of a followed label are in each state", Args: args(cobra.ExactArgs(1)), Example: "  hmule follow show berth-3",
		RunE: func(c *cobra.Command, given []string) error {
			return a.withFollow(c.Context(), func(m *client.Client, ctx context.Context) (api.Follow, error) { return m.Followed(ctx, given[0]) })
		},
	}
}

// withFollow does something to a followed label, and shows it.
func (a *app) withFollow(ctx context.Context, do func(*client.Client, context.Context) (api.Follow, error)) error {
	m, err := a.client()
	if err != nil {
		return err
	}
	f, err := do(m, ctx)
	if err != nil {
		return err
	}
	return a.show(f, []string{f.Name}, func(o *present.Out) {
		o.Line("Label %s=%s is followed as %s since %s.", f.Label.Name, f.Label.Value, f.Name, present.Time(f.MadeAt))
		var facts [][2]string
		for _, s := range job.States() {
			if n := f.Counts[s]; n > 0 {
				facts = append(facts, [2]string{s.String(), sentence.Grouped(n)})
			}
		}
		o.Facts(facts...)
		if f.Counting {
			o.Line("Jobs from before are still being counted.")
		}
		o.Hint("hmule history --follow %s --since 24h    # what moved among them", f.Name)
		o.Hint("hmule job list --label %s=%s             # its jobs", f.Label.Name, f.Label.Value)
	})
}

func (a *app) followDeleteCommand() *cobra.Command {
	return &cobra.Command{
		Use: "delete NAME...", Short: "Follow labels no longer; their jobs stay", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule follow delete berth-3",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			var refused []error
			for _, name := range given {
				refused = append(refused, m.Unfollow(c.Context(), name))
			}
			if err := errors.Join(refused...); err != nil {
				return err
			}
			return a.show(map[string]any{"deleted": given}, given, func(o *present.Out) {
				for _, name := range given {
					o.Line("%s is no longer followed.", name)
				}
			})
		},
	}
}
