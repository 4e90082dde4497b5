package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
)

func (a *app) setupCommand() *cobra.Command {
	c := noun("setup", "Show the settings; compare them with a set-up file, or load the file",
		a.setupShowCommand(), a.setupVerb("diff", "Show what loading the file would change", api.SetupRequest{DryRun: true}), a.setupVerb("load", "Load the file: all of it, or nothing", api.SetupRequest{}), a.schemaCommand())
	c.Long = `A set-up file defines with what the service is started, how long finished jobs are kept,
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

The file owns what it defines: a load sets that, and removes what an earlier load has defined
and the file no longer names. What was set in another way stays, and so do jobs.`
	return c
}

// errDiffers is the outcome of setup diff --exit-code; it was shown line by line.
var errDiffers = errors.New("the file differs from what is set")

func (a *app) setupVerb(verb, short string, req api.SetupRequest) *cobra.Command {
	var exitCode bool
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
			diff, err := m.PutSetup(c.Context(), req)
			if err != nil {
				return err
			}
			if err := a.show(diff, nil, func(o *present.Out) { showSetup(o, given[0], req, diff) }); err != nil {
				return err
			}
			if exitCode && len(diff.Changes) > 0 {
				return errDiffers
			}
			return nil
		},
	}
	if req.DryRun {
		c.Flags().BoolVar(&exitCode, "exit-code", false, "status 1 if anything differs")
	} else {
		c.Flags().BoolVar(&req.MayRemove, "may-remove", false, "allow a change that removes finished jobs because they are kept for a shorter time; an operation removes them and can be undone")
	}
	c.Flags().BoolVar(&req.Adopt, "adopt", false, "let the file take over settings that were not set by a file")
	return c
}

var setupWord = map[string]string{api.SetupAdds: "is added", api.SetupChanges: "changes", api.SetupAdopts: "is adopted: it was not set by a file", api.SetupRemoves: "is removed: the file no longer names it"}

func showSetup(o *present.Out, path string, req api.SetupRequest, d api.SetupDiff) {
	adopts := false
	for _, c := range d.Changes {
		o.Line("%s %s", strings.TrimSpace(c.Kind+" "+present.Strong(c.Name)), setupWord[c.Change])
		for _, f := range c.Fields {
			o.Line("%s", difference(f))
		}
		adopts = adopts || c.Change == api.SetupAdopts
	}
	same := fmt.Sprintf("%d unchanged", d.Same)
	switch {
	case len(d.Changes) == 0:
		o.Line("Nothing differs.")
	case d.Loaded:
		o.Line("%s loaded, %s.", many(int64(len(d.Changes)), "change"), same)
	default:
		o.Line("%s would be loaded, %s. Nothing was changed.", many(int64(len(d.Changes)), "change"), same)
		load := "hmule setup load " + path
		if d.Removes > 0 {
			o.Line("%s would no longer be kept, and would be removed.", many(d.Removes, "finished job"))
			load += " --may-remove"
		}
		if adopts {
			load += " --adopt"
		}
		o.Hint("%s", load)
	}
	showRemoving(o, d.Operation)
	for _, other := range d.Others {
		o.Line("%s was not set by a file and stays.", other)
	}
}

func (a *app) setupShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show all settings that are in force, and where each comes from", Args: args(cobra.NoArgs), Example: "  hmule setup show",
		Long: `Show all settings that are in force, and where each comes from: a flag or a variable of the
service, its set-up file, a command, the API or the console ("set by hand"), or built in.

What stands under "queues" and "tasks" holds for a queue or a task that has no setting of its own.`,
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Setup(c.Context())
			if err != nil {
				return err
			}
			return a.show(all, nil, func(o *present.Out) { showSettings(o, all) })
		},
	}
}

var settingFrom = map[string]string{api.SettingBuiltIn: "built in", api.SettingByFile: "set-up file", api.SettingByVariable: "variable", api.SettingByFlag: "flag", api.SettingByHand: "set by hand"}

func showSettings(o *present.Out, all api.Settings) {
	rows, of := [][]string{}, ""
	for _, s := range all.Settings {
		row := []string{s.Of, s.Name, strings.TrimSpace(settingFrom[s.From] + " " + s.Where), cmp.Or(plain(s.Value), "none")}
		if s.Of == of {
			row[0] = ""
		}
		rows, of = append(rows, row), s.Of
	}
	o.Table([]present.Column{{Head: "of"}, {Head: "setting"}, {Head: "from"}, {Head: "value"}}, rows)
}
