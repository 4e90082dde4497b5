package cli

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"humblemule.example/api"
	"humblemule.example/job"
)

// What is watched fits the terminal whatever its size, keeps the chosen queue in sight, tells when
// the service does not answer, and asks before it pauses.
func TestWatch(t *testing.T) {
	stats := api.Stats{Facts: []api.Fact{{Text: "No worker serves queue berths: 3 jobs are ready and waiting.", Wrong: true}}, Counts: map[job.State]int64{job.Ready: 3, job.Done: 12345}}
	for n := range 200 {
		stats.Queues = append(stats.Queues, api.Queue{Name: fmt.Sprintf("queue-%03d", n), Counts: map[job.State]int64{job.Ready: int64(n)}})
	}
	var w tea.Model = newWatching(t.Context(), nil)
	send := func(msg tea.Msg) { w, _ = w.Update(msg) }
	says := func() string { return ansi.Strip(w.(watching).picture()) }
	key := func(text string) { send(tea.KeyPressMsg{Text: text, Code: []rune(text)[0]}) }
	assert.Contains(t, says(), "Asking the service")
	send(watched{err: errors.New("no service answers at http://127.0.0.1:1")})
	assert.Contains(t, says(), "no service answers")
	send(watched{stats: stats, history: &api.History{Series: []api.Series{{Name: "queue-000", Points: api.FlowPoints{Done: api.Points{0, 1, 8, -1}}}}}})
	assert.Contains(t, says(), "No worker serves queue berths")
	assert.Contains(t, says(), "12\u202f345 ● done")
	assert.Contains(t, says(), "·▂█")
	for _, size := range [][2]int{{80, 24}, {40, 8}, {200, 60}, {1, 1}} {
		send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		lines := strings.Split(says(), "\n")
		assert.LessOrEqual(t, len(lines), size[1], size)
		for _, line := range lines {
			if size[0] >= 40 {
				assert.LessOrEqual(t, ansi.StringWidth(line), max(size[0], 100), line)
			}
		}
	}
	send(tea.WindowSizeMsg{Width: 100, Height: 24})
	for range 150 {
		key("j")
	}
	assert.Contains(t, says(), "›  queue-150")
	key("p")
	assert.Contains(t, says(), "Pause queue queue-150? Nothing of it starts until it is resumed. [y/N]")
	key("n")
	assert.Contains(t, says(), "Nothing was changed.")
	key("k")
	assert.Contains(t, says(), "›  queue-149")
	send(tea.KeyPressMsg{Code: tea.KeySpace, Text: " "})
	send(watched{stats: api.Stats{Facts: []api.Fact{{Text: "All is well."}}}})
	assert.NotContains(t, says(), "All is well", "it is held still")
	send(tea.KeyPressMsg{Code: tea.KeySpace, Text: " "})
	send(watched{stats: api.Stats{Facts: []api.Fact{{Text: "All is well."}}}})
	assert.Contains(t, says(), "All is well")
	key("p")
	key("y")
	old := w.(watching)
	old.asOf = time.Now().Add(-time.Minute)
	w = old
	send(watched{err: errors.New("gone")})
	assert.Contains(t, says(), "No answer for 60 s; figures of ")
}
