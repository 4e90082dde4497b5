package cli

import (
	"strings"
	"time"

	"context"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/core/cron"
	"humblemule.example/job"
)

// completeWithin is how long a shell waits for names that the service knows.
const completeWithin = time.Second

// complete tells shells what words and names may follow: states are known here, and queues,
// tasks, schedules, workers and time zones by the service.
func (a *app) complete(root *cobra.Command) {
	flags := map[string]cobra.CompletionFunc{
		"state": words(stateWords()...), "queue": a.known(queueNames), "task": a.known(taskNames), "zone": words(cron.Zones()...),
		"output": words(outputs...), "order": words(string(api.NewestFirst), string(api.OldestFirst), string(api.NextFirst)),
		"log-level": words("debug", "info", "warn", "error"), "log-format": words("text", "json"), "role": words(roleWords()...),
		"dedupe": words("unstarted", "unfinished"),
	}
	nouns := map[string]cobra.CompletionFunc{
		"QUEUE": a.known(queueNames), "TASK": a.known(taskNames), "SCHEDULE": a.known(scheduleNames), "WORKER": a.known(workerNames),
	}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for name, f := range flags {
			if c.Flags().Lookup(name) != nil || c.PersistentFlags().Lookup(name) != nil {
				c.RegisterFlagCompletionFunc(name, f)
			}
		}
		for _, word := range strings.Fields(c.Use) {
			if f := nouns[strings.TrimSuffix(word, "...")]; f != nil && c.ValidArgsFunction == nil {
				c.ValidArgsFunction = f
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root)
}

// words completes a list that may be separated by commas.
func words(all ...string) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		return fitting(all, typed), cobra.ShellCompDirectiveNoFileComp
	}
}

// fitting are the words that go on with what was typed, behind the last comma.
func fitting(all []string, typed string) (fit []string) {
	head := typed[:strings.LastIndex(typed, ",")+1]
	for _, w := range all {
		if strings.HasPrefix(w, typed[len(head):]) {
			fit = append(fit, head+w)
		}
	}
	return fit
}

// known completes with names that the service knows.
func (a *app) known(list func(ctx context.Context, m *client.Client) ([]string, error)) cobra.CompletionFunc {
	return func(c *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		ctx, cancel := context.WithTimeout(context.Background(), completeWithin)
		defer cancel()
		m, err := a.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		all, err := list(ctx, m)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return fitting(all, typed), cobra.ShellCompDirectiveNoFileComp
	}
}

func queueNames(ctx context.Context, m *client.Client) ([]string, error) {
	all, err := client.Collect(m.Queues(ctx))
	return names(all, func(q *api.Queue) string { return q.Name }), err
}

func taskNames(ctx context.Context, m *client.Client) ([]string, error) {
	all, err := client.Collect(m.Tasks(ctx))
	return names(all, func(t *api.Task) string { return t.Name }), err
}

func scheduleNames(ctx context.Context, m *client.Client) ([]string, error) {
	all, err := client.Collect(m.Schedules(ctx))
	return names(all, func(s *api.ScheduleStatus) string { return s.Name }), err
}

func workerNames(ctx context.Context, m *client.Client) ([]string, error) {
	all, err := client.Collect(m.Workers(ctx))
	return names(all, func(w *api.Worker) string { return nameOf(*w) }), err
}

func stateWords() (all []string) {
	for _, s := range job.States() {
		all = append(all, s.String())
	}
	return all
}
