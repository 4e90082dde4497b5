package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/measure"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
)

// The bounds of what a bench may be asked for.
const (
	shortestSpan = 100 * time.Millisecond
	longestSpan  = 10 * time.Minute
	mostRounds   = 50
	mostBacklog  = 10_000_000
)

func (a *app) benchCommand() *cobra.Command {
	var asked measure.Asked
	var svg string
	c := &cobra.Command{
		Use: "bench [SCENARIO ...]", Short: "Measure what this machine and its disk can do",
		Example: "  hmule bench --dir /var/lib/hmule\n  hmule bench life pool --rounds 5 --svg machine.svg",
		Long: "Measure what this machine and its disk can do, on services that the command starts and\nthrows away. It does not touch a service that is already running; stop that one, or its load counts too.\n\nScenarios (all of them, if you name none):\n" +
			listed() + "\nEach figure names what limits it (\"binds\"):\n" + `  disk               the service's one writer waits for the disk
  the writer's core  the writer is busy; it uses one core, so that faster cores help, not more
  all cores          everything is busy, the load that is made here included
  connections        the service waits for calls: more of them at once bring more`,
		RunE: func(c *cobra.Command, names []string) (err error) {
			asked.Scenarios = names
			if err := checkBench(&asked); err != nil {
				return usageError{err}
			}
			if asked.Program, err = os.Executable(); err != nil {
				return err
			}
			var chart *os.File
			if svg != "" { // before the minutes that it takes
				if chart, err = os.Create(svg); err != nil {
					return usageError{fmt.Errorf("--svg %s cannot be written: %w", svg, err)}
				}
				defer func() {
					if chart.Close(); err != nil {
						os.Remove(svg)
					}
				}()
			}
			progress := a.progress()
			asked.Told = func(done, all int, what string) {
				if what != "" {
					what = fmt.Sprintf("%d of %d  %s", done+1, all, what)
				}
				progress(what)
			}
			report, err := measure.Run(c.Context(), asked)
			if err != nil {
				progress("")
				return endedEarly(c.Context(), err)
			}
			report.Version = Version
			if chart != nil {
				if err := drawBench(chart, &report); err != nil {
					return err
				}
			}
			return a.show(report, nil, func(o *present.Out) { showBench(o, &report) })
		},
	}
	f := c.Flags()
	f.StringVar(&asked.Dir, "dir", ".", "folder on the disk to measure; the files in it are removed afterwards")
	f.DurationVar(&asked.Span, "span", 2*time.Second, "length of a round")
	f.IntVar(&asked.Rounds, "rounds", 3, "rounds per figure; the median is shown")
	f.IntVar(&asked.Backlog, "backlog", 100_000, "waiting jobs in the scenario backlog")
	f.StringVar(&svg, "svg", "", "draw the rates as a chart into this file")
	return c
}

// endedEarly tells of what was interrupted, whatever error that has brought.
func endedEarly(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return errors.New("interrupted before it was finished; its files were removed")
	}
	return err
}

// listed are the scenarios as lines of a help.
func listed() string {
	var b strings.Builder
	for _, s := range measure.Scenarios() {
		fmt.Fprintf(&b, "  %-10s %s\n", s.Name, s.What)
	}
	return b.String()
}

func checkBench(asked *measure.Asked) error {
	var names []string
	for _, s := range measure.Scenarios() {
		names = append(names, s.Name)
	}
	for _, name := range asked.Scenarios {
		if !slices.Contains(names, name) {
			near := nearest.To(name, names)
			if near == "" {
				return fmt.Errorf("%q is not a valid scenario; the scenarios are %s", name, strings.Join(names, ", "))
			}
			return fmt.Errorf("%q is not a valid scenario; the nearest is %s", name, near)
		}
	}
	switch at, err := os.Stat(asked.Dir); {
	case err != nil:
		return fmt.Errorf("--dir %s cannot be used: %w", asked.Dir, err)
	case !at.IsDir():
		return fmt.Errorf("--dir %s is not a folder", asked.Dir)
	case asked.Span < shortestSpan || asked.Span > longestSpan:
		return fmt.Errorf("--span %s is outside %s to %s", asked.Span, shortestSpan, longestSpan)
	case asked.Rounds < 1 || asked.Rounds > mostRounds:
		return fmt.Errorf("--rounds %d is outside 1 to %d", asked.Rounds, mostRounds)
	case asked.Backlog < 0 || asked.Backlog > mostBacklog:
		return fmt.Errorf("--backlog %d is outside 0 to %s", asked.Backlog, sentence.Grouped(mostBacklog))
	}
	return nil
}

// progress gives what tells beside the answer how far long work has come: on a terminal in
// one line, elsewhere a line each time it is something new. An empty text ends it.
func (a *app) progress() func(text string) {
	f, isFile := a.err.(*os.File)
	if !isFile || !term.IsTerminal(f.Fd()) {
		return func(text string) {
			if text != "" {
				fmt.Fprintln(a.err, text)
			}
		}
	}
	const erase = "\r\x1b[K"
	return func(text string) { fmt.Fprint(a.err, erase+text) }
}

func showBench(o *present.Out, r *measure.Report) {
	o.Facts(
		[2]string{"machine", fmt.Sprintf("%s, %s", r.System, many(int64(r.Cores), "core"))},
		[2]string{"disk", fmt.Sprintf("a durable write of 4 KiB takes %.2f ms, one in a hundred more than %.2f ms", r.FsyncP50MS, r.FsyncP99MS)},
	)
	before := ""
	var rows [][]string
	for _, f := range r.Figures {
		scenario := f.Scenario
		if scenario == before {
			scenario = ""
		}
		before = f.Scenario
		rows = append(rows, []string{scenario, f.What, rate(f.PerSecond), millis(f.P50MS), millis(f.P99MS), micros(f.CPUMicros), f.Binds.Describe()})
	}
	o.Line("")
	o.Table([]present.Column{{Head: "scenario"}, {Head: "load"}, {Head: "jobs/s", Right: true}, {Head: "p50 ms", Right: true}, {Head: "p99 ms", Right: true}, {Head: "CPU µs", Right: true}, {Head: "bound by"}}, rows)
	o.Hint("p50 and p99: of one call. CPU: of the service, per job. What binds: see hmule bench --help")
}

func rate(perSecond float64) string { return present.Count(int64(perSecond + 0.5)) }

func millis(ms float64) string {
	if ms == 0 {
		return present.Quiet("–")
	}
	return fmt.Sprintf("%.2f", ms)
}

func micros(us float64) string {
	if us == 0 {
		return present.Quiet("–")
	}
	return fmt.Sprintf("%.0f", us)
}

func drawBench(f *os.File, r *measure.Report) error {
	var bars []measure.Bar
	for _, g := range r.Figures {
		if g.PerSecond > 0 {
			bars = append(bars, measure.Bar{What: g.Scenario + ": " + g.What, Value: g.PerSecond, Label: fmt.Sprintf("%s – bound by: %s", sentence.Grouped(int64(g.PerSecond+0.5)), g.Binds.Describe())})
		}
	}
	if len(bars) == 0 {
		return fmt.Errorf("none of the figures is a rate, so %s has no chart", filepath.Base(f.Name()))
	}
	title := fmt.Sprintf("How many jobs a second can this machine take? (%s, %s, fsync %.2f ms)", r.System, many(int64(r.Cores), "core"), r.FsyncP50MS)
	return measure.Bars(f, title, "jobs a second", bars)
}
