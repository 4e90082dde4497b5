package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
)

func (a *app) tokenListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the tokens that the service takes, and when each was used last", Args: args(cobra.NoArgs), Example: "  hmule token list",
		Long: `List the tokens that the service takes, and when each was used last since its start.

To replace a token: make a second one of the same name (hmule token new), send the service SIGHUP,
give the new one out, and remove the old entry from the tokens file when it is no longer used here.`,
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Tokens(c.Context())
			if err != nil {
				return err
			}
			return a.show(map[string]any{"tokens": all}, names(all, func(t *api.TokenStatus) string { return t.Name }), func(o *present.Out) { listTokens(o, all) })
		},
	}
}

func listTokens(o *present.Out, all []api.TokenStatus) {
	if len(all) == 0 {
		o.Line("This service asks for no token.")
		return
	}
	rows := make([][]string, len(all))
	for i, t := range all {
		used, expires := "not since "+present.Time(t.Since), "never"
		if t.UsedAt != 0 {
			used = o.Age(t.UsedAt)
		}
		if t.Expires != 0 {
			expires = present.Time(t.Expires)
		}
		rows[i] = []string{t.Name, t.Role, t.Hash + "…", used, expires}
	}
	o.Table([]present.Column{{Head: "name"}, {Head: "role"}, {Head: "sha256"}, {Head: "used"}, {Head: "expires"}}, rows)
}

func (a *app) sessionCommand() *cobra.Command {
	return noun("session", "List who is signed in to the console; end their sessions", a.sessionListCommand(), a.sessionEndCommand())
}

func (a *app) sessionListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List who is signed in to the console", Args: args(cobra.NoArgs), Example: "  hmule session list",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Sessions(c.Context())
			if err != nil {
				return err
			}
			return a.show(map[string]any{"sessions": all}, numbers(all, func(s *api.Session) int64 { return s.ID }), func(o *present.Out) { listSessions(o, all) })
		},
	}
}

func listSessions(o *present.Out, all []api.Session) {
	if len(all) == 0 {
		o.Line("Nobody is signed in to the console.")
		return
	}
	rows := make([][]string, len(all))
	for i, s := range all {
		rows[i] = []string{fmt.Sprint(s.ID), s.Principal, o.Age(s.MadeAt), o.Age(s.SeenAt), present.Time(s.EndsAt), s.Address, s.Agent}
	}
	o.Table([]present.Column{{Head: "session", Right: true}, {Head: "who"}, {Head: "began"}, {Head: "seen"}, {Head: "ends"}, {Head: "from"}, {Head: "browser"}}, rows)
	o.Hint("hmule session end %d", all[0].ID)
}

func (a *app) sessionEndCommand() *cobra.Command {
	return &cobra.Command{
		Use: "end SESSION", Short: "End somebody's session in the console", Args: args(cobra.ExactArgs(1)), Example: "  hmule session end 3",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := strconv.ParseInt(given[0], 10, 64)
			if err != nil || id <= 0 {
				return usageError{fmt.Errorf("%q is not the number of a session; see: hmule session list", given[0])}
			}
			m, err := a.client()
			if err == nil {
				err = m.EndSession(c.Context(), id)
			}
			if err != nil {
				return err
			}
			return a.show(map[string]any{"ended": id}, given, func(o *present.Out) { o.Line("Session %d has ended.", id) })
		},
	}
}
