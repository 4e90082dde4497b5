package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
)

func (a *app) setupCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "setup", Short: "Compare what is set with a file that defines it, or make it so",
		Long: `A set-up file defines with what the service is started, how long finished jobs are kept,
what else is a cause of failures, the settings of queues and tasks, and schedules:

  service:
    listen: 127.0.0.1:6853
  retention: {done: 12h, dead: 30d}
  triage:
    - {type: refused, matches: 'refused by (\w+)', becomes: refused by $1}
  queues:
    bulletins:
      rate: {per_second: 1, burst: 2}
  tasks:
    dues.charge:
      max_attempts: 6
  schedules:
    tides:
      cron: 30 3 * * *
      zone: Europe/Lisbon
      job: {task: tide.predict, payload: {berth: 3}}

It owns what it defines: a load sets that, and takes away what an earlier load has defined
and the file no longer names. What was set otherwise stays, and so do jobs.`,
	}
	c.AddCommand(a.setupVerb("diff", "Show what a load of the file would change", api.SetupRequest{DryRun: true}), a.setupVerb("load", "Make queues and tasks what the file defines, at once or not at all", api.SetupRequest{}), a.schemaCommand())
	return c
}

func (a *app) setupVerb(verb, short string, req api.SetupRequest) *cobra.Command {
	c := &cobra.Command{
		Use: verb + " FILE", Short: short, Args: args(cobra.ExactArgs(1)), Example: "  hmule setup " + verb + " hmule.yaml",
		RunE: func(c *cobra.Command, given []string) error {
			s, err := config.ReadSetup(given[0])
			if err != nil {
				return usageError{err}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			req.Setup = s.Setup
			diff, err := m.Load(c.Context(), req)
			if err != nil {
				return err
			}
			return a.show(diff, func(o *present.Out) { showSetup(o, given[0], diff) })
		},
	}
	if !req.DryRun {
		c.Flags().BoolVar(&req.Removes, "removes", false, "finished jobs that are kept no longer may be removed; an operation does so and can be undone")
	}
	c.Flags().BoolVar(&req.Adopt, "adopt", false, "let the file define what was set otherwise before")
	return c
}

var setupWord = map[string]string{api.SetupAdds: "is added", api.SetupChanges: "changes", api.SetupAdopts: "is adopted: it was set otherwise than by a file", api.SetupRemoves: "is taken away: the file no longer names it"}

func showSetup(o *present.Out, path string, d api.SetupDiff) {
	for _, c := range d.Changes {
		o.Line("%s %s", strings.TrimSpace(c.Kind+" "+present.Strong(c.Name)), setupWord[c.Change])
		for _, f := range c.Fields {
			o.Line("  %-16s %s → %s", f.Field, f.Before, f.After)
		}
	}
	switch {
	case len(d.Changes) == 0:
		o.Line("Nothing differs.")
	case d.Loaded:
		o.Line("%s loaded; %d as they were.", many(int64(len(d.Changes)), "change"), d.Same)
	default:
		o.Line("%s would be loaded; %d are as they are. Nothing was changed.", many(int64(len(d.Changes)), "change"), d.Same)
		load := "hmule setup load " + path
		if d.Removes > 0 {
			o.Line("%s would be kept no longer, and removed.", many(d.Removes, "finished job"))
			load += " --removes"
		}
		o.Hint("%s", load)
	}
	showRemoving(o, d.Operation)
	for _, other := range d.Others {
		o.Line("%s was set otherwise than by a file and stays.", other)
	}
}
