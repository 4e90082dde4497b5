package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
	"humblemule.example/internal/harbour"
	"humblemule.example/internal/load"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// loadAnswer is what a load brought.
type loadAnswer struct {
	Seed uint64 `json:"seed"`
	// Arrivals is how many jobs came in each setting, and Fingerprint is that of what came.
	Arrivals    int            `json:"arrivals"`
	Fingerprint string         `json:"fingerprint"`
	Outcomes    []load.Outcome `json:"outcomes"`
}

func (a *app) loadCommand() *cobra.Command {
	var dir string
	var example bool
	var seed uint64
	c := &cobra.Command{
		Use: "load FILE", Short: "Try a load against one setting of queues and pools, or compare two",
		Example: "  hmule load --example > load.yaml\n  hmule load load.yaml\n  hmule load load.yaml --seed 2 -o json",
		Long: `Try a load against one setting of queues and pools, or compare two.

The file says which jobs come, when, how long they run and how often they fail, drawn by
distributions and a seed, and in which settings: queues, tasks and pools. Each setting has a
service and pools of its own, one after the other, that are thrown away; handlers only wait.
Both meet the same jobs at the same moments, in real time: a load of a minute takes two.

A job's wait is from when it was to come to its first start. What its owner would see alone,
with all slots for itself, is computed: an owner is slowed down by others as many times as
its jobs take longer than that; fairness is Jain's index over it, 1 where others slow all
owners down alike. Starved are jobs that waited more than a second and ten times as long as
alone, or were never started.`,
		Args: func(c *cobra.Command, given []string) error {
			if example {
				return args(cobra.NoArgs)(c, given)
			}
			return args(cobra.ExactArgs(1))(c, given)
		},
		RunE: func(c *cobra.Command, given []string) error {
			if example {
				_, err := a.out.Write(harbour.Load())
				return err
			}
			var plan load.Plan
			if err := config.Into(given[0], &plan, plan.Check); err != nil {
				return usageError{err}
			}
			if c.Flags().Changed("seed") {
				plan.Seed = seed
			}
			ctx, stop := whileAttached(c.Context())
			defer stop()
			return a.load(ctx, &plan, dir)
		},
	}
	f := c.Flags()
	f.StringVar(&dir, "dir", "", "folder for the services' files, which are removed afterwards (default: the system's folder for temporary files)")
	f.BoolVar(&example, "example", false, "write an example file instead")
	f.Uint64Var(&seed, "seed", 0, "use this seed instead of the file's")
	return c
}

func (a *app) load(ctx context.Context, plan *load.Plan, dir string) error {
	arrivals := plan.Arrivals()
	answer := loadAnswer{Seed: plan.Seed, Arrivals: len(arrivals), Fingerprint: load.Fingerprint(arrivals)}
	progress := a.progress()
	for i := range plan.Settings {
		o, err := a.tryLoad(ctx, plan, &plan.Settings[i], dir, progress)
		progress("")
		if err != nil {
			return endedEarly(ctx, err)
		}
		answer.Outcomes = append(answer.Outcomes, o)
	}
	return a.show(answer, nil, func(o *present.Out) { showLoad(o, plan, &answer) })
}

// tryLoad tries a setting on a service whose files go with it.
func (a *app) tryLoad(ctx context.Context, plan *load.Plan, setting *load.Setting, dir string, progress func(string)) (o load.Outcome, err error) {
	if dir, err = os.MkdirTemp(dir, "hmule-load-"); err != nil {
		return o, usageError{fmt.Errorf("--dir cannot be used: %w", err)}
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	return load.Run(ctx, plan, setting, dir, throwAway, func(p load.Progress) {
		text := fmt.Sprintf("%s: %s of %s, %s came, %s ended, %s wait", p.Setting, p.Gone.Round(time.Second), p.For, sentence.Grouped(p.Came), sentence.Grouped(p.Finished), sentence.Grouped(p.Waiting))
		if p.Gone > p.For {
			text = fmt.Sprintf("%s: all came, %s of %s ended, %s wait", p.Setting, sentence.Grouped(p.Finished), sentence.Grouped(p.Came), sentence.Grouped(p.Waiting))
		}
		progress(text)
	})
}

// throwAway starts a service in this process, on a new file in a folder.
func throwAway(ctx context.Context, dir string) (address string, end func() error, err error) {
	s, err := open(serving{Service: config.Service{Data: filepath.Join(dir, "load.db"), Listen: "127.0.0.1:0"}}, api.Setup{}, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return "", nil, err
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	ended := make(chan error, 1)
	go func() { ended <- s.run(ctx) }()
	return s.address(), func() error {
		stop()
		return <-ended
	}, nil
}

func showLoad(o *present.Out, plan *load.Plan, answer *loadAnswer) {
	o.Line("%s in %s; seed %d, fingerprint %s", many(int64(answer.Arrivals), "job"), plan.For, answer.Seed, answer.Fingerprint)
	o.Line("")
	columns := []present.Column{{Head: ""}}
	for _, s := range answer.Outcomes {
		columns = append(columns, present.Column{Head: s.Setting, Right: true})
	}
	if len(answer.Outcomes) == 2 {
		columns = append(columns, present.Column{Head: "change", Right: true})
	}
	o.Table(columns, loadRows(answer.Outcomes))
	o.Line("")
	o.Table(append([]present.Column{{Head: "waits by"}, {Head: ""}, {Head: "jobs", Right: true}}, groupColumns(answer.Outcomes)...), groupRows(answer.Outcomes))
	for _, s := range answer.Outcomes {
		if s.LateP99MS > s.Wait.P50MS/2 && s.LateP99MS > 100 {
			o.Line("Note: in %s the load generator fell behind: one job in a hundred was enqueued %s or more after its planned time.", s.Setting, span(s.LateP99MS))
		}
	}
	o.Hint("All figures, also of other owners: hmule load FILE -o json")
}

// loadRows are the figures, a column for each setting.
func loadRows(all []load.Outcome) (rows [][]string) {
	add := func(what string, of func(*load.Outcome) float64, say func(float64) string) {
		row, values := []string{what}, make([]float64, len(all))
		for i := range all {
			values[i] = of(&all[i])
			row = append(row, say(values[i]))
		}
		if len(all) == 2 {
			row = append(row, change(values[0], values[1]))
		}
		rows = append(rows, row)
	}
	count := func(v float64) string { return present.Count(int64(v)) }
	share := func(v float64) string { return fmt.Sprintf("%.2f", v) }
	add("done", func(o *load.Outcome) float64 { return float64(o.Finished[job.Done]) }, count)
	add("dead", func(o *load.Outcome) float64 { return float64(o.Finished[job.Dead]) }, count)
	add("refused, the queue was full", func(o *load.Outcome) float64 { return float64(o.Refused) }, count)
	add("unfinished at the end", func(o *load.Outcome) float64 { return float64(o.Unfinished) }, count)
	add("failed attempts", func(o *load.Outcome) float64 { return float64(o.Failures) }, count)
	add("done per second", func(o *load.Outcome) float64 { return o.PerSecond }, func(v float64) string { return fmt.Sprintf("%.1f", v) })
	add("slots busy", func(o *load.Outcome) float64 { return o.Busy }, func(v float64) string { return fmt.Sprintf("%.0f %%", 100*v) })
	add("time to drain, after the last arrival", func(o *load.Outcome) float64 { return o.DrainedMS }, func(v float64) string {
		if v < 0 {
			return "never"
		}
		return span(v)
	})
	add("wait, half of the jobs", func(o *load.Outcome) float64 { return o.Wait.P50MS }, span)
	add("wait, 19 of 20", func(o *load.Outcome) float64 { return o.Wait.P95MS }, span)
	add("wait, 99 of 100", func(o *load.Outcome) float64 { return o.Wait.P99MS }, span)
	add("wait, the longest", func(o *load.Outcome) float64 { return o.Wait.MaxMS }, span)
	add("starved", func(o *load.Outcome) float64 { return float64(o.Starved) }, count)
	if all[0].Fairness > 0 {
		add("slowed down by others, the worst owner", func(o *load.Outcome) float64 { return slices.Max(slices.Collect(maps.Values(o.Slowdowns))) }, func(v float64) string { return fmt.Sprintf("%.1f times", v) })
		add("fairness between owners", func(o *load.Outcome) float64 { return o.Fairness }, share)
	}
	return rows
}

// change tells how many times the second figure is the first.
func change(a, b float64) string {
	if a <= 0 || b < 0 || a == b {
		return ""
	}
	return present.Quiet(fmt.Sprintf("× %.2f", b/a))
}

// span writes milliseconds with a unit that fits them.
func span(ms float64) string {
	switch {
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	case ms < 60_000:
		return fmt.Sprintf("%.1f s", ms/1000)
	}
	return sentence.Roughly(time.Duration(ms) * time.Millisecond)
}

func groupColumns(all []load.Outcome) (columns []present.Column) {
	for _, s := range all {
		name := ""
		if len(all) > 1 {
			name = s.Setting + ", "
		}
		columns = append(columns, present.Column{Head: name + "p50", Right: true}, present.Column{Head: "p99", Right: true}, present.Column{Head: "longest", Right: true})
	}
	return columns
}

// mostGroups is how many groups of a kind are shown.
const mostGroups = 8

// groupRows are the waits of groups, a kind below the other. Priorities are left out where
// all have the same.
func groupRows(all []load.Outcome) (rows [][]string) {
	of := map[string]int{}
	for _, g := range all[0].Groups {
		of[g.Kind]++
	}
	shown := map[string]int{}
	for _, g := range all[0].Groups {
		if shown[g.Kind]++; shown[g.Kind] > mostGroups || g.Kind == "priority" && of[g.Kind] < 2 {
			continue
		}
		kind := g.Kind
		if shown[kind] > 1 {
			kind = ""
		}
		row := []string{kind, g.Name, present.Count(int64(g.Jobs))}
		for i := range all {
			w := groupOf(&all[i], g.Kind, g.Name)
			row = append(row, span(w.P50MS), span(w.P99MS), span(w.MaxMS))
		}
		rows = append(rows, row)
	}
	return rows
}

func groupOf(o *load.Outcome, kind, name string) load.Waits {
	for _, g := range o.Groups {
		if g.Kind == kind && g.Name == name {
			return g.Wait
		}
	}
	return load.Waits{}
}
