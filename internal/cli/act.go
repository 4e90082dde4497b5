package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/job"
)

// acted are the jobs of a command that took effect.
type acted struct {
	Jobs []job.Job `json:"jobs"`
}

// each does something to every job that the arguments name. What is refused for
// one stops no other; all refusals are told at the end.
func (a *app) each(ctx context.Context, given []string, do func(m *client.Client, id int64) (job.Job, error)) error {
	m, err := a.client()
	if err != nil {
		return err
	}
	ids := make([]int64, len(given))
	for i, text := range given {
		if ids[i], err = jobID(text); err != nil {
			return err
		}
	}
	done := acted{Jobs: []job.Job{}}
	var refused []error
	for _, id := range ids {
		j, err := do(m, id)
		if err != nil {
			refused = append(refused, err)
			continue
		}
		done.Jobs = append(done.Jobs, j)
	}
	if err := a.show(done, func(o *present.Out) {
		for _, j := range done.Jobs {
			o.Line("%s", standing(j))
		}
	}); err != nil {
		return err
	}
	return errors.Join(refused...)
}

// standing says where a job stands after something was done to it.
func standing(j job.Job) string {
	text := fmt.Sprintf("Job %d is %s", j.ID, present.State(j.State))
	switch {
	case j.State == job.Running && j.CancelAskedAt != 0:
		return text + " and is asked to end."
	case j.Round > 1 && !j.State.Finished():
		return fmt.Sprintf("%s, round %d.", text, j.Round)
	}
	return text + "."
}

func (a *app) requeueCommand() *cobra.Command {
	var payload string
	c := &cobra.Command{
		Use: "requeue ID...", Short: "Give finished jobs a new round; their history stays", Args: args(cobra.MinimumNArgs(1)),
		Example: "  hmule requeue 42\n  hmule requeue 42 --payload '{\"manifest\":\"heron-0291b\"}'",
		RunE: func(c *cobra.Command, given []string) error {
			var edited any
			if payload != "" {
				raw, err := payloadOf(payload, c.InOrStdin())
				if err != nil {
					return err
				}
				edited = raw
			}
			return a.each(c.Context(), given, func(m *client.Client, id int64) (job.Job, error) { return m.Requeue(c.Context(), id, edited) })
		},
	}
	c.Flags().StringVar(&payload, "payload", "", "another payload: JSON, @FILE, or - for standard input")
	return c
}

func (a *app) cancelCommand() *cobra.Command {
	return &cobra.Command{
		Use: "cancel ID...", Short: "End jobs that are not finished; one that runs is asked to end", Args: args(cobra.MinimumNArgs(1)),
		Example: "  hmule cancel 42 43",
		RunE: func(c *cobra.Command, given []string) error {
			return a.each(c.Context(), given, func(m *client.Client, id int64) (job.Job, error) { return m.Cancel(c.Context(), id) })
		},
	}
}

func (a *app) acceptCommand() *cobra.Command {
	var enqueue string
	c := &cobra.Command{
		Use: "accept ID", Short: "Make a job done whose follow-ups were refused, without running it again", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule accept 42\n  hmule accept 42 --enqueue '[{\"task\":\"notice.publish\",\"payload\":{\"berth\":3}}]'",
		RunE: func(c *cobra.Command, given []string) error {
			var followUps []job.Spec
			if enqueue != "" {
				var all []json.RawMessage
				if err := readJSON("enqueue", enqueue, &all); err != nil {
					return err
				}
				for _, raw := range all {
					var s job.Spec
					if err := readJSON("enqueue", string(raw), &s); err != nil {
						return err
					}
					followUps = append(followUps, s)
				}
			}
			return a.each(c.Context(), given, func(m *client.Client, id int64) (job.Job, error) {
				return m.Accept(c.Context(), id, followUps)
			})
		},
	}
	c.Flags().StringVar(&enqueue, "enqueue", "", "its follow-ups, a list of specs as JSON; none unless given")
	return c
}

func (a *app) endLeaseCommand() *cobra.Command {
	var freeLane bool
	c := &cobra.Command{
		Use: "end-lease ID...", Short: "Take running jobs from their workers, and place them again uncounted", Args: args(cobra.MinimumNArgs(1)),
		Long: `End the leases of running jobs. They are placed again, the attempt is not counted, and what
their handlers say from then on is refused. A handler may still run: so a job keeps its lane
until its lease would have ended, unless --free-lane is given.`,
		Example: "  hmule end-lease 42    # its worker is gone, and its lease is long",
		RunE: func(c *cobra.Command, given []string) error {
			return a.each(c.Context(), given, func(m *client.Client, id int64) (job.Job, error) {
				return m.EndLease(c.Context(), id, freeLane)
			})
		},
	}
	c.Flags().BoolVar(&freeLane, "free-lane", false, "let a job in a lane start before its lease would have ended")
	return c
}

func (a *app) startCommand() *cobra.Command {
	return &cobra.Command{
		Use: "start ID...", Short: "Start jobs now that wait for their time or their next attempt", Args: args(cobra.MinimumNArgs(1)),
		Example: "  hmule start 42    # after the fix, instead of waiting for its backoff",
		RunE: func(c *cobra.Command, given []string) error {
			return a.each(c.Context(), given, func(m *client.Client, id int64) (job.Job, error) { return m.StartNow(c.Context(), id) })
		},
	}
}
