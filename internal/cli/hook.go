package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) hookCommand() *cobra.Command {
	return noun("hook", "Receive webhooks: set addresses that take them, test them, see what was delivered",
		a.hookListCommand(), a.hookShowCommand(), a.hookSetCommand(), a.hookTestCommand(), a.hookDeliveriesCommand(), a.hookAgainCommand(),
		a.deleting("hook", "Delete a hook: it takes no more deliveries; its jobs stay",
			func(m *client.Client, ctx context.Context, name string) error { return m.DeleteHook(ctx, name) }))
}

func (a *app) hookListCommand() *cobra.Command {
	return listCommand(a, "hooks", "List hooks with what was delivered to them", (*client.Client).Hooks, func(h *api.HookStatus) string { return h.Name }, listHooks)
}

func listHooks(o *present.Out, all []api.HookStatus) {
	if len(all) == 0 {
		o.Line("There is no hook yet.")
		o.Hint("hmule hook set arrivals task=manifest.check proof.kind=standard 'proof.secrets=[\"pilots\"]'")
		return
	}
	rows := make([][]string, len(all))
	for i, h := range all {
		last := "none yet"
		if h.Counts.LastAt != 0 {
			last = o.Age(h.Counts.LastAt)
		}
		rows[i] = []string{h.Name, h.Task, h.Proof.Kind, sentence.Grouped(h.Counts.Taken), sentence.Grouped(h.Counts.Repeated), sentence.Grouped(h.Counts.NumRefused()), last, h.Path}
	}
	o.Table([]present.Column{{Head: "hook"}, {Head: "task"}, {Head: "proof"}, {Head: "taken", Right: true}, {Head: "repeated", Right: true}, {Head: "refused", Right: true}, {Head: "last", Right: true}, {Head: "path"}}, rows)
	for _, h := range all {
		for _, f := range h.Faults {
			o.Line("%s refuses every delivery: %s.", h.Name, f)
		}
	}
	o.Hint("hmule hook show %s", all[0].Name)
}

func (a *app) hookShowCommand() *cobra.Command {
	return showCommand(a, "hook", "arrivals", "Show a hook, what was delivered and what was refused", (*client.Client).Hook, showHook)
}

func showHook(o *present.Out, h api.HookStatus) {
	o.Line("%s  takes deliveries at %s", present.Strong(h.Name), h.Path)
	for _, f := range h.Faults {
		o.Line("It refuses every delivery: %s.", f)
	}
	o.Line("")
	known := "not: a delivery that is repeated becomes a second job"
	if h.IDFrom != nil {
		known = "by " + takenFrom(h.IDFrom) + ", for 30 days"
	}
	all := [][2]string{{"job", h.Task + present.Quiet(" in queue ") + queueOf(h.Spec())}, {"proof", proofOf(&h.Proof)}, {"known again", known}}
	for _, t := range []struct {
		name string
		from *api.Taken
	}{{"lane", h.Lane}, {"owner", h.Owner}} {
		if t.from != nil {
			all = append(all, [2]string{t.name, takenFrom(t.from)})
		}
	}
	if len(h.KeepHeaders) > 0 {
		all = append(all, [2]string{"keeps headers", strings.Join(h.KeepHeaders, ", ")})
	}
	n := &h.Counts
	all = append(all, [2]string{"taken", sentence.Grouped(n.Taken) + lastOf(o, n)})
	if n.Repeated > 0 {
		all = append(all, [2]string{"repeated", sentence.Grouped(n.Repeated) + ", " + sentence.Grouped(n.Differing) + " with another body"})
	}
	if n.WithoutID > 0 {
		all = append(all, [2]string{"without an id", sentence.Grouped(n.WithoutID)})
	}
	for _, reason := range slices.Sorted(maps.Keys(n.Refused)) {
		all = append(all, [2]string{"refused", sentence.Grouped(n.Refused[reason]) + ": " + api.RefusalSays(reason)})
	}
	if h.Note != "" {
		all = append(all, [2]string{"note", h.Note})
	}
	o.Facts(all...)
	if len(n.Refusals) > 0 {
		rows := make([][]string, len(n.Refusals))
		for i, r := range n.Refusals {
			rows[i] = []string{present.Time(r.At), r.From, api.RefusalSays(r.Reason)}
		}
		o.Line("")
		o.Table([]present.Column{{Head: "refused at"}, {Head: "from"}, {Head: "because"}}, rows)
	}
	for _, w := range h.Warnings {
		o.Line("Note: %s", w.Message)
	}
	o.Hint("hmule hook deliveries %s", h.Name)
}

func lastOf(o *present.Out, n *api.HookCounts) string {
	if n.LastAt == 0 {
		return ""
	}
	return ", the last " + o.Age(n.LastAt)
}

// takenFrom tells from where of a delivery something is taken.
func takenFrom(t *api.Taken) string {
	switch {
	case t.Header != "":
		return "header " + t.Header
	case t.Pointer != "":
		return t.Pointer + " of the body"
	}
	return t.Value
}

// proofOf tells how the sender of a delivery is proved.
func proofOf(p *api.Proof) string {
	by := map[string]string{
		api.ProofStandard: "Standard Webhooks", api.ProofBearer: "a secret in Authorization", api.ProofBasic: "user " + p.User + " and a secret",
		api.ProofHMAC: fmt.Sprintf("HMAC with %s of %s, as %s in %s", p.Algorithm, p.Signs, p.Encoding, p.Header), api.ProofNone: "none: nobody has to prove anything",
	}[p.Kind]
	if p.Kind == api.ProofBearer && p.Header != "" {
		by = "a secret in " + p.Header
	}
	if len(p.Secrets) > 0 {
		by += present.Quiet("  secret ") + strings.Join(p.Secrets, " or ")
	}
	if p.Tolerance != 0 {
		by += present.Quiet("  signed within ") + p.Tolerance.String()
	}
	return by
}

func (a *app) hookSetCommand() *cobra.Command {
	return setCommand(a, "  hmule hook set arrivals task=manifest.check proof.kind=standard 'proof.secrets=[\"pilots\"]'\n  hmule hook set arrivals owner.pointer=/agent lane.pointer=/berth 'keep_headers=[\"x-event\"]'\n  hmule hook set arrivals --unset lane",
		`Make a hook, or change one. Whoever posts to its path enqueues a job of its task, with the body as
payload, once for each id. The sender proves itself by a secret, which the file that the service is
started with names under secrets; see docs/how-to/webhooks.md.`, setting[api.HookStatus]{
			noun: "hook", fields: "task, queue, priority, lane, owner, id_from, keep_headers, proof, note",
			get: func(ctx context.Context, m *client.Client, name string) (api.HookStatus, error) {
				return m.Hook(ctx, name)
			},
			patch: func(ctx context.Context, m *client.Client, name string, change any) (api.HookStatus, error) {
				return m.PatchHook(ctx, name, change)
			},
			put: putWhole((*client.Client).PutHook),
			set: func(h api.HookStatus) any {
				if h.Name == "" {
					return nil
				}
				return h.Hook
			},
			warnings: func(h api.HookStatus) []job.Warning { return h.Warnings },
			after:    func(o *present.Out, h api.HookStatus) { o.Line("It takes deliveries at %s.", h.Path) },
		})
}

func (a *app) hookTestCommand() *cobra.Command {
	var media string
	var headers []string
	c := &cobra.Command{
		Use: "test HOOK FILE", Short: "Have the service sign a body as the sender would, and deliver it", Args: args(cobra.ExactArgs(2)),
		Example: "  hmule hook test arrivals arrival.json\n  echo '{\"manifest\":\"tern-0033\"}' | hmule hook test arrivals -",
		Long: `Have the service sign a body as the sender would, and deliver it to the hook. It becomes a job as any
delivery does. FILE is the body, - for the standard input.`,
		RunE: func(c *cobra.Command, given []string) error {
			body, err := fileOrInput(given[1], c.InOrStdin())
			if err != nil {
				return err
			}
			h := http.Header{}
			for _, pair := range headers {
				name, value, is := strings.Cut(pair, ":")
				if !is {
					return usageError{fmt.Errorf("%q is not a header; write it as name:value", pair)}
				}
				h.Add(strings.TrimSpace(name), strings.TrimSpace(value))
			}
			if media == "" {
				media = mediaTypeOf(body)
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.TestHook(c.Context(), given[0], body, media, h)
			if err != nil {
				return err
			}
			return a.show(told, []string{strconv.FormatInt(told.Job, 10)}, func(o *present.Out) { showReceived(o, told) })
		},
	}
	c.Flags().StringVar(&media, "type", "", "media type of the body; default: application/json where it is JSON")
	c.Flags().StringArrayVar(&headers, "header", nil, "a header that the hook keeps, as name:value; repeat it for several")
	return c
}

// mediaTypeOf is what a body looks like.
func mediaTypeOf(body []byte) string {
	switch {
	case json.Valid(body):
		return "application/json"
	case utf8.Valid(body):
		return "text/plain; charset=utf-8"
	}
	return "application/octet-stream"
}

// fileOrInput reads a file, or the standard input for -.
func fileOrInput(name string, in io.Reader) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(in)
	}
	raw, err := os.ReadFile(name)
	if err != nil {
		return nil, usageError{fmt.Errorf("the body cannot be read: %w", err)}
	}
	return raw, nil
}

func showReceived(o *present.Out, told api.Received) {
	switch {
	case told.Differs:
		o.Line("Known already, with another body: it became job %d.", told.Job)
	case told.Repeated:
		o.Line("Known already: it became job %d.", told.Job)
	default:
		o.Line("Delivered: it became job %d.", told.Job)
	}
	o.Hint("hmule job show %d", told.Job)
}

func (a *app) hookDeliveriesCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "deliveries HOOK", Short: "List what a hook has taken, the latest first", Args: args(cobra.ExactArgs(1)), Example: "  hmule hook deliveries arrivals",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.First(limit, m.Deliveries(c.Context(), given[0]))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"deliveries": append([]api.Delivery{}, all...)}, names(all, func(d *api.Delivery) string { return strconv.FormatInt(d.Number, 10) }),
				func(o *present.Out) { listDeliveries(o, given[0], all) })
		},
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many to show; those of the last 30 days are kept")
	return c
}

func listDeliveries(o *present.Out, hook string, all []api.Delivery) {
	if len(all) == 0 {
		o.Line("Nothing was delivered yet.")
		o.Hint("hmule hook test %s FILE", hook)
		return
	}
	rows := make([][]string, len(all))
	for i, d := range all {
		state, times := "removed", "once"
		if d.State != job.Unplaced {
			state = d.State.String()
		}
		if d.Times > 1 {
			times = fmt.Sprintf("%s times", sentence.Grouped(d.Times))
		}
		if d.Differing > 0 {
			times += fmt.Sprintf(", %s with another body", sentence.Grouped(d.Differing))
		}
		rows[i] = []string{strconv.FormatInt(d.Number, 10), present.Time(d.At), strconv.FormatInt(d.Job, 10), state, times, d.ID}
	}
	o.Table([]present.Column{{Head: "delivery", Right: true}, {Head: "at"}, {Head: "job", Right: true}, {Head: "state"}, {Head: "came"}, {Head: "id"}}, rows)
	o.Hint("hmule job show %d      hmule hook again %s %d", all[0].Job, hook, all[0].Number)
}

func (a *app) hookAgainCommand() *cobra.Command {
	return &cobra.Command{
		Use: "again HOOK DELIVERY", Short: "Make another job of a delivery, as the hook is set now", Args: args(cobra.ExactArgs(2)), Example: "  hmule hook again arrivals 1",
		RunE: func(c *cobra.Command, given []string) error {
			number, err := strconv.ParseInt(given[1], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is not the number of a delivery; see hmule hook deliveries %s", given[1], given[0])}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.SendAgain(c.Context(), given[0], number)
			if err != nil {
				return err
			}
			return a.show(told, []string{strconv.FormatInt(told.Job, 10)}, func(o *present.Out) {
				o.Line("Job %d was made of delivery %d.", told.Job, number)
				o.Hint("hmule job show %d", told.Job)
			})
		},
	}
}
