package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/job"
)

func (a *app) alertCommand() *cobra.Command {
	return noun("alert", "See what is wrong, say that you have seen it, and test who is told",
		a.alertListCommand(), a.alertShowCommand(), a.alertSeenCommand(), a.alertMuteCommand(), a.alertRulesCommand(), a.alertTestCommand())
}

// alertID reads the number of an alert.
func alertID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usageError{fmt.Errorf("%q is not the number of an alert, as hmule alert list shows it", text)}
	}
	return id, nil
}

func (a *app) alertListCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "list", Short: "List the alerts that are not over, the critical ones first", Args: args(cobra.NoArgs), Example: "  hmule alert list\n  hmule alert list --all",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			states := []string{api.AlertOpen, api.AlertSeen, api.AlertMuted}
			if all {
				states = nil
			}
			found, err := m.Alerts(c.Context(), states...)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"alerts": found}, numbers(found, func(x *api.Alert) int64 { return x.ID }), func(o *present.Out) { listAlerts(o, found) })
		},
	}
	c.Flags().BoolVar(&all, "all", false, "also those that are over, for 30 days")
	return c
}

func listAlerts(o *present.Out, all []api.Alert) {
	if len(all) == 0 {
		o.Line("No alert is open.")
		o.Hint("hmule alert rules    # when there would be one")
		return
	}
	rows := make([][]string, len(all))
	for i, x := range all {
		rows[i] = []string{fmt.Sprint(x.ID), x.Severity, standingOfAlert(&x), o.Age(x.Since), present.Local(x.Text)}
	}
	o.Table([]present.Column{{Head: "alert", Right: true}, {Head: "severity"}, {Head: "state"}, {Head: "since", Right: true}, {Head: "what is wrong"}}, rows)
	o.Hint("hmule alert show %d", all[0].ID)
}

// standingOfAlert tells the state of an alert, and who is on it.
func standingOfAlert(x *api.Alert) string {
	if x.State == api.AlertSeen {
		return "seen by " + x.SeenBy
	}
	return x.State
}

func (a *app) alertShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show ALERT", Short: "Show an alert: since when, the likely reason, what to do, who was told", Args: args(cobra.ExactArgs(1)), Example: "  hmule alert show 3",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := alertID(given[0])
			if err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			x, err := m.Alert(c.Context(), id)
			if err != nil {
				return err
			}
			return a.show(x, []string{given[0]}, func(o *present.Out) { showAlert(o, x) })
		},
	}
}

func showAlert(o *present.Out, x api.Alert) {
	o.Text(0, present.Strong(present.Local(x.Text)))
	if x.Detail != "" {
		o.Text(0, present.Local(x.Detail))
	}
	o.Line("")
	at := func(t job.Time) string { return present.Time(t) + present.Quiet("  "+o.Age(t)) }
	facts := [][2]string{{"state", standingOfAlert(&x)}, {"severity", x.Severity}, {"rule", x.Rule}, {"since", at(x.Since)}}
	add := func(name, value string, is bool) {
		if is {
			facts = append(facts, [2]string{name, value})
		}
	}
	add("likely", present.Local(x.Likely), x.Likely != "")
	add("to do", x.Mend, x.OverAt == 0 && x.Mend != "")
	add("over", at(x.OverAt), x.OverAt != 0)
	add("seen by", x.SeenBy+", "+at(x.SeenAt), x.SeenAt != 0)
	add("note", x.Note, x.Note != "")
	add("muted until", present.Time(x.MutedUntil)+" by "+x.MutedBy, x.State == api.AlertMuted)
	add("told", at(x.ToldAt), x.ToldAt != 0)
	add("told", strings.TrimSpace("nobody yet. "+x.Untold), x.ToldAt == 0 && x.OverAt == 0)
	add("reminded", at(x.RemindedAt), x.RemindedAt != 0)
	o.Facts(facts...)
	if x.OverAt == 0 {
		if x.Command != "" {
			o.Hint("%s", x.Command)
		}
		o.Hint("hmule alert seen %d --note TEXT    hmule alert mute %d --for 2h", x.ID, x.ID)
	}
}

// alertVerb does something to every alert that the arguments name.
func (a *app) alertVerb(c *cobra.Command, given []string, do func(m *client.Client, ctx context.Context, id int64) (api.Alert, error), says func(api.Alert) string) error {
	for _, text := range given {
		if _, err := alertID(text); err != nil {
			return err
		}
	}
	m, err := a.client()
	if err != nil {
		return err
	}
	return eachOf(a, given, func(text string) (api.Alert, error) {
		id, err := alertID(text)
		if err != nil {
			return api.Alert{}, err
		}
		return do(m, c.Context(), id)
	}, "alerts", func(x *api.Alert) string { return fmt.Sprint(x.ID) }, says)
}

func (a *app) alertSeenCommand() *cobra.Command {
	var note string
	c := &cobra.Command{
		Use: "seen ALERT...", Short: "Say that you have seen an alert; a new cause is over then", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule alert seen 3 --note 'the bank mends it'",
		RunE: func(c *cobra.Command, given []string) error {
			return a.alertVerb(c, given, func(m *client.Client, ctx context.Context, id int64) (api.Alert, error) {
				return m.SeeAlert(ctx, id, note)
			}, func(x api.Alert) string {
				if x.OverAt != 0 {
					return fmt.Sprintf("Alert %d is over: you have seen it.", x.ID)
				}
				return fmt.Sprintf("Alert %d is noted as seen; it is over when it is right again.", x.ID)
			})
		},
	}
	c.Flags().StringVar(&note, "note", "", "what others should know")
	return c
}

func (a *app) alertMuteCommand() *cobra.Command {
	var span string
	c := &cobra.Command{
		Use: "mute ALERT...", Short: "Send no message of an alert for a while; 0s ends that", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule alert mute 2 --for 2h",
		RunE: func(c *cobra.Command, given []string) error {
			d, err := job.ParseDuration(span)
			if err != nil {
				return usageError{fmt.Errorf("--for: %w", err)}
			}
			return a.alertVerb(c, given, func(m *client.Client, ctx context.Context, id int64) (api.Alert, error) {
				return m.MuteAlert(ctx, id, d)
			}, func(x api.Alert) string {
				if x.State != api.AlertMuted {
					return fmt.Sprintf("Alert %d is told again.", x.ID)
				}
				return fmt.Sprintf("Nobody is told of alert %d until %s.", x.ID, present.Time(x.MutedUntil))
			})
		},
	}
	c.Flags().StringVar(&span, "for", "4h", "for how long, up to 30d")
	return c
}

func (a *app) alertRulesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "rules", Short: "List the rules: when there is an alert, and who is told", Args: args(cobra.NoArgs), Example: "  hmule alert rules",
		Long: "Lists the rules: when there is an alert, and who is told. They are set in a set-up file, under alerts;\nwhat it does not say is as built in.",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			s, err := m.AlertSetup(c.Context())
			if err != nil {
				return err
			}
			return a.show(s, names(s.Rules, func(r *api.AlertRuleStatus) string { return r.Name }), func(o *present.Out) { listRules(o, s) })
		},
	}
}

func listRules(o *present.Out, s api.AlertSetup) {
	if s.Off {
		o.Line("All alerts are switched off by the set-up.")
		return
	}
	rows := make([][]string, len(s.Rules))
	for i, r := range s.Rules {
		told := strings.Join(r.Tell, ", ")
		if told == "" {
			told = "nobody"
		}
		if r.Off {
			told = "off"
		}
		rows[i] = []string{r.Name, r.Severity, told, map[string]string{api.SettingBuiltIn: "built in", api.SettingByFile: "file"}[r.DefinedBy], r.Says}
	}
	o.Table([]present.Column{{Head: "rule"}, {Head: "severity"}, {Head: "told"}, {Head: "from"}, {Head: "there is an alert when"}}, rows)
	for _, name := range slices.Sorted(maps.Keys(s.Channels)) {
		ch := s.Channels[name]
		o.Line("Channel %s: %s.", name, wayOf(&ch))
	}
	if len(s.Channels) == 0 {
		o.Line("There is no channel, so nobody is told but by this command and the console.")
	}
}

// wayOf tells how somebody is told by a channel.
func wayOf(ch *api.AlertChannel) string {
	switch {
	case ch.Mail != nil:
		return "mail to " + strings.Join(ch.Mail.To, ", ")
	case ch.Call != nil:
		return "a call of " + ch.Call.URL
	case ch.Endpoint != "":
		return "endpoint " + ch.Endpoint
	}
	return "command " + ch.Command
}

func (a *app) alertTestCommand() *cobra.Command {
	return &cobra.Command{
		Use: "test [CHANNEL...]", Short: "Send a test by channels, all where none is named", Args: cobra.ArbitraryArgs, Example: "  hmule alert test watch-house",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.TestAlerts(c.Context(), given...)
			if err != nil {
				return err
			}
			channels := slices.Sorted(maps.Keys(told.Jobs))
			var ids []string
			for _, name := range channels {
				ids = append(ids, fmt.Sprint(told.Jobs[name]))
			}
			return a.show(told, ids, func(o *present.Out) {
				for i, name := range channels {
					o.Line("A test goes out by channel %s, as job %s.", name, ids[i])
				}
				if len(ids) > 0 {
					o.Hint("hmule job show %s    # what became of it", ids[0])
				}
			})
		},
	}
}
