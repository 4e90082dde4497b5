package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) watchCommand() *cobra.Command {
	return &cobra.Command{
		Use: "watch", Short: "Show how things stand in this terminal, renewed every second", Args: args(cobra.NoArgs), Example: "  hmule watch",
		Long: `Shows the worst fact, the jobs by state, and the queues with what came and finished over the last hour, and renews it every
second. Keys: ↑ ↓ choose a queue, Enter shows when it is clear, p pauses or resumes it, Space holds the picture still, q ends.`,
		RunE: func(c *cobra.Command, _ []string) error {
			out, is := a.out.(*os.File)
			if !is || !term.IsTerminal(out.Fd()) {
				return usageError{errors.New("hmule watch needs a terminal; to read it from a script, use: hmule status")}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			ctx, cancel := context.WithCancel(c.Context())
			defer cancel()
			end, err := tea.NewProgram(newWatching(ctx, m), tea.WithContext(ctx), tea.WithInput(c.InOrStdin()), tea.WithOutput(out)).Run()
			if w, is := end.(watching); is && w.err != nil && w.asOf.IsZero() {
				return w.err // it never had an answer
			}
			if errors.Is(err, tea.ErrProgramKilled) {
				return nil
			}
			return err
		},
	}
}

// How often the picture is renewed, and how often what came and finished over the last hour is.
const (
	watchEvery   = time.Second
	historyEvery = 10 * time.Second
	factsWatched = 4
)

// watched is what the service has answered.
type watched struct {
	stats   api.Stats
	history *api.History
	outlook *api.Forecast
	err     error
}

// pausedQueue tells what became of a queue that was paused or resumed.
type pausedQueue struct {
	said string
	err  error
}

type watchTick time.Time

// watching is what hmule watch shows.
type watching struct {
	ctx     context.Context
	m       *client.Client
	stats   api.Stats
	history api.History
	outlook *api.Forecast
	// asOf is when the service answered last, and historyAt when it told its history.
	asOf, historyAt time.Time
	err             error
	still           bool
	chosen          string // the name of a queue
	details         bool   // of that
	asks            string // the queue that is to be paused or resumed
	said            string
	width, height   int
}

func newWatching(ctx context.Context, m *client.Client) watching {
	return watching{ctx: ctx, m: m, width: 100, height: 30}
}

func (w watching) Init() tea.Cmd { return tea.Batch(w.ask, tick()) }

func tick() tea.Cmd { return tea.Tick(watchEvery, func(t time.Time) tea.Msg { return watchTick(t) }) }

// ask asks the service how things stand.
func (w watching) ask() tea.Msg {
	ctx, cancel := context.WithTimeout(w.ctx, 5*time.Second)
	defer cancel()
	var told watched
	if told.stats, told.err = w.m.Stats(ctx, ""); told.err != nil {
		return told
	}
	if time.Since(w.historyAt) >= historyEvery {
		h, err := w.m.History(ctx, api.HistoryQuery{By: api.ByQueue, Step: job.For(time.Minute)})
		told.history, told.err = &h, err
	}
	if w.details && w.chosen != "" && told.err == nil {
		f, err := w.m.Forecast(ctx, api.ForecastQuery{Queue: w.chosen})
		told.outlook, told.err = &f, err
	}
	return told
}

func (w watching) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		w.width, w.height = msg.Width, msg.Height
	case watchTick:
		if w.still {
			return w, tick()
		}
		return w, tea.Batch(w.ask, tick())
	case watched:
		w.take(msg)
	case pausedQueue:
		if w.said = msg.said; msg.err != nil {
			w.said = msg.err.Error()
		}
		return w, w.ask
	case tea.KeyPressMsg:
		return w.press(msg.String())
	}
	return w, nil
}

// take shows what the service has answered, unless the picture is held still.
func (w *watching) take(told watched) {
	if w.err = told.err; told.err != nil || w.still {
		return
	}
	w.stats, w.asOf, w.outlook = told.stats, time.Now(), told.outlook
	if told.history != nil {
		w.history, w.historyAt = *told.history, time.Now()
	}
	if w.at() < 0 && len(w.stats.Queues) > 0 {
		w.chosen = w.stats.Queues[0].Name
	}
}

// at is the place of the chosen queue; -1 where it is gone.
func (w *watching) at() int {
	for i, q := range w.stats.Queues {
		if q.Name == w.chosen {
			return i
		}
	}
	return -1
}

// press does what a key asks for.
func (w watching) press(key string) (tea.Model, tea.Cmd) {
	if w.asks != "" {
		name := w.asks
		w.asks = ""
		if key == "y" {
			return w, w.pause(name)
		}
		w.said = "Nothing was changed."
		return w, nil
	}
	w.said = ""
	switch key {
	case "q", "ctrl+c", "esc":
		return w, tea.Quit
	case "space":
		w.still = !w.still
	case "up", "k", "down", "j":
		by := 1
		if key == "up" || key == "k" {
			by = -1
		}
		if n := len(w.stats.Queues); n > 0 {
			w.chosen = w.stats.Queues[min(max(w.at()+by, 0), n-1)].Name
			w.outlook = nil
		}
		return w, w.ask
	case "enter":
		w.details = !w.details
		w.outlook = nil
		return w, w.ask
	case "p":
		w.asks = w.chosen
	}
	return w, nil
}

// pause pauses a queue, or resumes it.
func (w watching) pause(name string) tea.Cmd {
	at := w.at()
	if at < 0 {
		return func() tea.Msg { return pausedQueue{said: fmt.Sprintf("There is no queue %s any more.", name)} }
	}
	paused := w.stats.Queues[at].Paused
	return func() tea.Msg {
		if paused {
			_, err := w.m.ResumeQueue(w.ctx, name)
			return pausedQueue{fmt.Sprintf("Queue %s was resumed.", name), err}
		}
		_, err := w.m.PauseQueue(w.ctx, name)
		return pausedQueue{fmt.Sprintf("Queue %s was paused.", name), err}
	}
}

func (w watching) View() tea.View {
	v := tea.NewView(w.picture())
	v.AltScreen = true
	return v
}

func (w watching) picture() string {
	var b bytes.Buffer
	o := present.NewWide(&b, w.width)
	w.head(o)
	if !w.asOf.IsZero() {
		for i, f := range w.stats.Facts[:min(len(w.stats.Facts), factsWatched)] {
			text := present.Local(f.Text)
			if i == 0 {
				text = present.Strong(text)
			}
			o.Text(0, text)
		}
		o.Line("")
		o.Line("%s", way(w.stats.Counts))
		o.Line("")
		w.queues(o)
	}
	switch q := w.at(); {
	case w.asks != "" && q >= 0 && w.stats.Queues[q].Paused:
		o.Line("\nResume queue %s? [y/N]", w.asks)
	case w.asks != "" && q >= 0:
		o.Line("\nPause queue %s? Nothing of it starts until it is resumed. [y/N]", w.asks)
	case w.said != "":
		o.Line("\n%s", w.said)
	default:
		o.Line("")
		o.Hint("↑ ↓ choose a queue · Enter when it is clear · p pause or resume it · Space hold still · q end")
	}
	lines := strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
	return strings.Join(lines[:min(len(lines), max(w.height, 1))], "\n")
}

// head says what is shown, and of when.
func (w *watching) head(o *present.Out) {
	switch {
	case w.err != nil && w.asOf.IsZero():
		o.Line("%s", w.err)
	case w.err != nil:
		o.Line("No answer for %s; figures of %s. %s", sentence.Roughly(time.Since(w.asOf)), w.asOf.Format("15:04:05"), present.Quiet(w.err.Error()))
	case w.asOf.IsZero():
		o.Line("Asking the service how things stand …")
	case w.still:
		o.Line("%s", present.Quiet("Held still at "+w.asOf.Format("15:04:05")+"; Space lets it go on"))
	default:
		o.Line("%s", present.Quiet("Humble Mule, "+w.asOf.Format("15:04:05")))
	}
	o.Line("")
}

// way writes the jobs by state in a line, in the order of a job's life.
func way(counts map[job.State]int64) string {
	var parts []string
	for _, s := range job.States() {
		if n := counts[s]; n > 0 || s == job.Ready || s == job.Running || s == job.Dead {
			parts = append(parts, present.Count(n)+" "+present.State(s))
		}
	}
	return strings.Join(parts, "   ")
}

// queues shows the queues, as many as there is room for, with the chosen one among them.
func (w *watching) queues(o *present.Out) {
	columns := []present.Column{{}, {Head: "queue"}, {Head: "ready", Right: true}, {Head: "running", Right: true}, {Head: "backoff", Right: true}, {Head: "dead", Right: true}, {Head: "in · out/min", Right: true}, {Head: "done, last hour"}, {Head: "clear by"}}
	room := max(w.height-14, 3)
	first := min(max(w.at()-room/2, 0), max(len(w.stats.Queues)-room, 0))
	shown := w.stats.Queues[first:min(first+room, len(w.stats.Queues))]
	var rows [][]string
	for _, q := range shown {
		mark, name := " ", q.Name
		if q.Name == w.chosen {
			mark, name = "›", present.Strong(q.Name)
		}
		if q.Paused {
			name += present.Quiet(" paused")
		}
		rows = append(rows, []string{
			mark, name, present.Count(q.Counts[job.Ready]), present.Count(q.Counts[job.Running]), present.Count(q.Counts[job.Backoff]), present.Count(q.Counts[job.Dead]),
			fmt.Sprintf("%.1f · %.1f", q.InPerMinute, q.OutPerMinute), w.sparkOf(q.Name), clearWord(&q),
		})
	}
	o.Table(columns, rows)
	if n := len(w.stats.Queues) - len(shown); n > 0 {
		o.Hint("and %s", sentence.Count(int64(n), "more queue", "more queues"))
	}
	if w.details && w.outlook != nil {
		o.Line("")
		o.Text(2, present.Local(strings.Join(w.outlook.Summary, " ")))
	}
}

// sparkOf draws what was done in a queue over the last hour.
func (w *watching) sparkOf(queue string) string {
	for _, s := range w.history.Series {
		if s.Name == queue {
			return spark(s.Points.Done)
		}
	}
	return ""
}

// clearWord says when no job of a queue waits any more.
func clearWord(q *api.Queue) string {
	switch c := q.Pace.Clear; {
	case q.Counts[job.Ready]+q.Counts[job.Held] == 0:
		return present.Quiet("now")
	case c == nil:
		return present.Quiet("–")
	case c.Likely == 0:
		return "never"
	default:
		return c.Likely.Go().Local().Format("15:04")
	}
}
