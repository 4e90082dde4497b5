package cli

import (
	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
)

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Tell in a sentence whether anything is wrong, and what to do about it", Args: args(cobra.NoArgs), Example: "  hmule status",
		Long: `Tells what is worst first, or that all is well and how one knows. Exit status 0 where nobody is needed, 1 where somebody
is, 3 where no service answers.`,
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			stats, err := m.Stats(c.Context(), "")
			if err != nil {
				return err
			}
			if err := a.show(stats.Facts, nil, func(o *present.Out) { showFacts(o, stats.Facts) }); err != nil {
				return err
			}
			for _, f := range stats.Facts {
				if f.Wrong {
					return errSaid
				}
			}
			return nil
		},
	}
}

// showFacts shows what is so, the first fact as the headline.
func showFacts(o *present.Out, facts []api.Fact) {
	for i, f := range facts {
		text := present.Local(f.Text)
		if i == 0 {
			text = present.Strong(text)
		}
		o.Text(0, text)
		if f.Detail != "" {
			o.Text(2, present.Quiet(present.Local(f.Detail)))
		}
		if f.Command != "" && f.Wrong {
			o.Text(2, f.Command)
		}
	}
}

// readyCommand is for scripts and for what watches over a container.
func (a *app) readyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "ready", Short: "Check whether the service can take jobs; the status is 0 if it can", Args: args(cobra.NoArgs), Example: "  hmule ready",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			notes, err := m.Ready(c.Context())
			if err != nil {
				return err
			}
			return a.show(map[string]any{"ready": true, "notes": append([]string{}, notes...)}, nil, func(o *present.Out) {
				o.Line("The service is ready.")
				for _, note := range notes {
					o.Line("%s", note)
				}
			})
		},
	}
}
