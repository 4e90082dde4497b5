package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
)

func (a *app) operationCommand() *cobra.Command {
	return noun("operation", "List, show, stop and undo actions on many jobs",
		a.operationListCommand(),
		a.operationVerb("show", "Show the progress of an action on many jobs", (*client.Client).Operation),
		a.operationVerb("stop", "Stop an action on many jobs; what it has changed stays so", (*client.Client).StopOperation),
		a.operationVerb("undo", "Bring back what an operation has removed, within ten minutes", (*client.Client).UndoOperation))
}

func (a *app) operationListCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "List the actions on many jobs, the latest first", Args: args(cobra.NoArgs), Example: "  hmule operation list",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.First(limit, m.Operations(c.Context()))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"operations": append([]api.Operation{}, all...)}, numbers(all, func(op *api.Operation) int64 { return op.ID }), func(o *present.Out) { listOperations(o, all) })
		},
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many to show")
	return c
}

func listOperations(o *present.Out, all []api.Operation) {
	if len(all) == 0 {
		o.Line("There has been no action on many jobs yet.")
		return
	}
	rows := make([][]string, len(all))
	for i, op := range all {
		rows[i] = []string{fmt.Sprint(op.ID), op.Action, op.State, sentence.Grouped(op.Changed), matchedOf(op), o.Age(op.BeganAt), op.By, op.Note}
	}
	right := func(head string) present.Column { return present.Column{Head: head, Right: true} }
	o.Table([]present.Column{right("operation"), {Head: "action"}, {Head: "state"}, right("changed"), right("of"), {Head: "began"}, {Head: "by"}, {Head: "note"}}, rows)
	o.Hint("hmule operation show %d", all[0].ID)
}

func (a *app) operationVerb(verb, short string, do func(*client.Client, context.Context, int64) (api.Operation, error)) *cobra.Command {
	return &cobra.Command{
		Use: verb + " OPERATION", Short: short, Args: args(cobra.ExactArgs(1)), Example: "  hmule operation " + verb + " 7",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := operationID(given[0])
			if err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			op, err := do(m, c.Context(), id)
			if err == nil && verb == "undo" {
				op, err = a.follow(c.Context(), m, op)
			}
			return a.showOperation(op, err)
		},
	}
}

// follow waits for the end of an operation, telling people how it goes.
func (a *app) follow(ctx context.Context, m *client.Client, op api.Operation) (api.Operation, error) {
	aside := a.aside()
	told := ""
	for !op.Over() {
		if text := howFar(op); text != told {
			aside.Hint("%s", text)
			told = text
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return op, interrupted{fmt.Sprintf("operation %d goes on without this command; see: hmule operation show %d, or end it: hmule operation stop %d", op.ID, op.ID, op.ID)}
		}
		var err error
		if op, err = m.Operation(ctx, op.ID); err != nil && ctx.Err() == nil {
			return op, err
		}
	}
	return op, nil
}

func howFar(op api.Operation) string {
	switch op.State {
	case api.OpTrial:
		return fmt.Sprintf("%s on trial.", sentence.Count(int64(len(op.TrialIDs)), "job is", "jobs are"))
	case api.OpUndoing:
		return "The jobs are coming back."
	}
	return fmt.Sprintf("%s of %s changed.", sentence.Grouped(op.Changed), many(op.Matched, "job"))
}

var changedWord = map[string]string{api.ActCancel: "cancelled", api.ActRequeue: "requeued", api.ActStartNow: "started", api.ActDiscard: "discarded", api.ActPatch: "changed", api.ActPurge: "removed"}

func matchedOf(op api.Operation) string {
	if op.MatchedIs == api.AtLeast {
		return "at least " + many(op.Matched, "job")
	}
	return many(op.Matched, "job")
}

// confirmOperation says what would follow an operation, and asks for it.
func (a *app) confirmOperation(c *cobra.Command, yes bool, op api.Operation, format string, args ...any) error {
	if !yes && onTerminal(c) {
		aside := a.aside()
		for _, text := range op.Follows {
			aside.Text(0, present.Local(text))
		}
	}
	return a.confirm(c, yes, format, args...)
}

// showOperation shows an operation, unless it was refused.
func (a *app) showOperation(op api.Operation, err error) error {
	if err != nil {
		return err
	}
	ids := []string{}
	if op.ID != 0 {
		ids = []string{fmt.Sprint(op.ID)}
	}
	return a.show(op, ids, func(o *present.Out) { tellOperation(o, op) })
}

func tellOperation(o *present.Out, op api.Operation) {
	switch {
	case op.DryRun:
		for _, text := range op.Follows {
			o.Text(0, present.Local(text))
		}
		o.Line("Nothing was changed: this was a dry run.")
		if op.Example != nil {
			o.Line("For example, the payload of job %d", op.Example.Job)
			o.Text(2, string(op.Example.Before))
			o.Line("would become")
			o.Text(2, string(op.Example.After))
		}
		return
	case op.State == api.OpUndone:
		o.Line("Operation %d was undone: its jobs are back.", op.ID)
		return
	case op.State == api.OpUndoing:
		o.Line("Operation %d is being undone: its jobs are coming back.", op.ID)
		return
	}
	o.Line("Operation %d is %s: %s of %s %s.", op.ID, op.State, sentence.Grouped(op.Changed), matchedOf(op), changedWord[op.Action])
	if op.Why != "" {
		o.Text(0, "It was stopped: "+op.Why+".")
	}
	for _, r := range op.Refused {
		o.Line("Not changed: %s", r.Message)
	}
	if more := op.RefusedCount - int64(len(op.Refused)); more > 0 {
		o.Line("%s more were not changed.", sentence.Grouped(more))
	}
	if op.UndoUntil != 0 {
		o.Hint("hmule operation undo %d   brings them back until %s", op.ID, present.Time(op.UndoUntil))
	}
}

func (a *app) actionCommand() *cobra.Command {
	return noun("action", "List what operators did", a.actionListCommand())
}

func (a *app) actionListCommand() *cobra.Command {
	var id int64
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "List what operators did, by whom and when, the latest first", Args: args(cobra.NoArgs), Example: "  hmule action list\n  hmule action list --job 42",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.First(limit, m.Actions(c.Context(), id))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"actions": append([]api.Action{}, all...)}, numbers(all, func(t *api.Action) int64 { return t.ID }), func(o *present.Out) { listActions(o, all) })
		},
	}
	c.Flags().Int64Var(&id, "job", 0, "only those on this job")
	c.Flags().IntVar(&limit, "limit", 20, "how many to show")
	return c
}

func listActions(o *present.Out, all []api.Action) {
	if len(all) == 0 {
		o.Line("No operator has done anything yet.")
		return
	}
	rows := make([][]string, len(all))
	for i, t := range all {
		rows[i] = []string{present.Time(t.At), t.Summary}
	}
	o.Table([]present.Column{{Head: "at"}, {Head: "what was done"}}, rows)
	o.Hint("hmule action list -o json  (with every detail)")
}
