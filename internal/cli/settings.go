package cli

import (
	"cmp"
	"encoding/json"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
)

func (a *app) settingsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "settings", Short: "Show all settings that are in force, and where each comes from", Args: args(cobra.NoArgs), Example: "  hmule settings",
		Long: `Show all settings that are in force, and where each comes from: a flag or a variable of the
service, its set-up file, somebody's hand (a command, the API or the console), or built in.

What stands under "queues" and "tasks" holds where a queue or a task says nothing itself.`,
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Settings(c.Context())
			if err != nil {
				return err
			}
			return a.show(all, func(o *present.Out) { showSettings(o, all) })
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

// plain is a value as people write it: texts without quotes.
func plain(value json.RawMessage) string {
	var text string
	if json.Unmarshal(value, &text) == nil {
		return text
	}
	return string(value)
}
