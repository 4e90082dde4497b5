package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) endpointCommand() *cobra.Command {
	return noun("endpoint", "Tell others of ends of jobs: set their addresses, test them, see what arrived",
		a.endpointListCommand(), a.endpointShowCommand(), a.endpointSetCommand(), a.endpointTestCommand(),
		a.endpointVerb("pause", "Send an endpoint no more messages", (*client.Client).PauseEndpoint, "Endpoint %s is paused."),
		a.endpointVerb("resume", "Send an endpoint messages again, of what ends from now on", (*client.Client).ResumeEndpoint, "Endpoint %s was resumed."),
		a.deleting("endpoint", "Delete an endpoint; messages under way to it give up",
			func(m *client.Client, ctx context.Context, name string) error { return m.DeleteEndpoint(ctx, name) }))
}

func (a *app) endpointListCommand() *cobra.Command {
	return listCommand(a, "endpoints", "List endpoints with what became of the messages to them", (*client.Client).Endpoints, func(e *api.EndpointStatus) string { return e.Name }, listEndpoints)
}

func listEndpoints(o *present.Out, all []api.EndpointStatus) {
	if len(all) == 0 {
		o.Line("There is no endpoint yet.")
		o.Hint("hmule endpoint set customs url=https://customs.example/events 'events=[{\"on\":[\"dead\"]}]'")
		return
	}
	rows := make([][]string, len(all))
	for i, e := range all {
		last := "none yet"
		if e.LastAt != 0 {
			last = o.Age(e.LastAt)
		}
		rows[i] = []string{e.Name, standingOf(&e), sentence.Grouped(e.Delivered), sentence.Grouped(e.Failed), last, e.URL}
	}
	o.Table([]present.Column{{Head: "endpoint"}, {Head: "status"}, {Head: "delivered", Right: true}, {Head: "died", Right: true}, {Head: "last", Right: true}, {Head: "url"}}, rows)
	o.Hint("hmule endpoint show %s", all[0].Name)
}

// standingOf tells how an endpoint stands, in a few words.
func standingOf(e *api.EndpointStatus) string {
	switch {
	case e.PausedWhy != "":
		return "paused itself"
	case e.PausedAt != 0:
		return "paused by " + e.PausedBy
	case e.FailingSince != 0:
		return "failing"
	}
	return "active"
}

func (a *app) endpointShowCommand() *cobra.Command {
	return showCommand(a, "endpoint", "customs", "Show an endpoint, and what it is told", (*client.Client).Endpoint, showEndpoint)
}

func showEndpoint(o *present.Out, e api.EndpointStatus) {
	o.Line("%s  %s", present.Strong(e.Name), e.URL)
	if e.PausedWhy != "" {
		o.Line("It has paused itself: %s. %s were not sent since.", e.PausedWhy, many(e.Missed, "message"))
	}
	o.Line("")
	all := [][2]string{{"status", standingOf(&e)}}
	if e.Secret != "" {
		all = append(all, [2]string{"signed by", "secret " + e.Secret})
	}
	for _, r := range e.Events {
		all = append(all, [2]string{"is told", picksOf(&r)})
	}
	if len(e.Events) == 0 {
		all = append(all, [2]string{"is told", "what jobs tell it that name it (notify)"})
	}
	all = append(all, [2]string{"delivered", sentence.Grouped(e.Delivered)}, [2]string{"died", sentence.Grouped(e.Failed)})
	if e.FailingSince != 0 {
		all = append(all, [2]string{"failing since", present.Time(e.FailingSince)})
	}
	if e.Note != "" {
		all = append(all, [2]string{"note", e.Note})
	}
	o.Facts(all...)
	o.Hint("hmule job list --queue %s --label %s=%s    # its messages", job.NoticeQueue, api.EndpointLabel, e.Name)
}

// picksOf tells in words which ends a rule picks.
func picksOf(r *api.EventRule) string {
	states := make([]string, len(r.On))
	for i, s := range r.On {
		states[i] = s.String()
	}
	says := strings.Join(states, ", ")
	for _, of := range []struct {
		what  string
		names []string
	}{{"task", r.Tasks}, {"queue", r.Queues}, {"owner", r.Owners}} {
		if len(of.names) > 0 {
			says += ", " + of.what + " " + strings.Join(of.names, " or ")
		}
	}
	return says
}

func (a *app) endpointSetCommand() *cobra.Command {
	return setCommand(a, "  hmule endpoint set customs url=http://127.0.0.1:9911/events 'events=[{\"on\":[\"dead\"],\"tasks\":[\"manifest.check\"]}]'\n  hmule endpoint set customs note='asks for dead manifests alone'\n  hmule endpoint set customs --unset note",
		`Make an endpoint, or change one. It gets a message of each end of a job that names it (notify), and of those
that its events pick, as CloudEvents, signed by its secret; see docs/how-to/notices.md.`, setting[api.EndpointStatus]{
			noun: "endpoint", fields: "url, secret, events, paused, note",
			get: func(ctx context.Context, m *client.Client, name string) (api.EndpointStatus, error) {
				return m.Endpoint(ctx, name)
			},
			patch: func(ctx context.Context, m *client.Client, name string, change any) (api.EndpointStatus, error) {
				return m.PatchEndpoint(ctx, name, change)
			},
			put: putWhole((*client.Client).PutEndpoint),
			set: func(e api.EndpointStatus) any {
				if e.Name == "" {
					return nil
				}
				return e.Endpoint
			},
			warnings: func(e api.EndpointStatus) []job.Warning { return e.Warnings },
		})
}

func (a *app) endpointVerb(verb, short string, do func(*client.Client, context.Context, string) (api.EndpointStatus, error), says string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " ENDPOINT...", Short: short, Args: args(cobra.MinimumNArgs(1)), Example: "  hmule endpoint " + verb + " customs",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			return eachOf(a, given, func(name string) (api.EndpointStatus, error) { return do(m, c.Context(), name) }, "endpoints",
				func(e *api.EndpointStatus) string { return e.Name }, func(e api.EndpointStatus) string { return fmt.Sprintf(says, e.Name) })
		},
	}
}

func (a *app) endpointTestCommand() *cobra.Command {
	return &cobra.Command{
		Use: "test ENDPOINT", Short: "Send an endpoint a message that says that it is a test", Args: args(cobra.ExactArgs(1)), Example: "  hmule endpoint test customs",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.TestEndpoint(c.Context(), given[0])
			if err != nil {
				return err
			}
			return a.show(told, []string{strconv.FormatInt(told.Job, 10)}, func(o *present.Out) {
				o.Line("%s", fmt.Sprintf("The message is job %d.", told.Job))
				o.Hint("hmule job show %d", told.Job)
			})
		},
	}
}
