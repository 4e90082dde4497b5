package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/core/job"
)

// A load sets what the file defines and takes away what it no longer names, at once or
// not at all; what was set otherwise stays, over restarts too.
func TestLoad(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		berths := job.Defaults{Rules: job.Rules{MaxRunning: ptr(2)}}
		file := job.Setup{Queues: map[string]job.Defaults{"berths": berths, "archive": {}}, Tasks: map[string]job.Defaults{"dues.charge": {MaxAttempts: ptr(6)}}}
		load := func(s job.Setup, adopt, dry bool) (told []string, d job.SetupDiff) {
			d, err := y.e.Load(ctx, job.SetupRequest{Setup: s, Adopt: adopt, DryRun: dry})
			require.NoError(t, err)
			for _, c := range d.Changes {
				told = append(told, c.Kind+" "+c.Name+" "+c.Change)
			}
			return told, d
		}
		y.rules("common", job.Rules{Turns: job.ByOwner})
		told, d := load(file, false, true)
		assert.Equal(t, []string{"queue archive add", "queue berths add", "task dues.charge add"}, told)
		assert.Equal(t, []string{"queue common"}, d.Others)
		assert.Empty(t, y.e.Tasks(ctx), "nothing was changed")
		told, d = load(file, false, false)
		assert.Len(t, told, 3)
		assert.True(t, d.Loaded)
		require.NoError(t, y.e.Close())
		y.open()
		told, d = load(file, false, false)
		assert.Equal(t, []any{0, 3}, []any{len(told), d.Same}, "the same again changes nothing")
		queues, err := y.e.Queues(ctx)
		require.NoError(t, err)
		assert.Equal(t, []bool{true, true, false}, []bool{queues[0].FromFile, queues[1].FromFile, queues[2].FromFile})

		y.rules("berths", job.Rules{MaxRunning: ptr(9)}) // by hand
		file.Queues["common"] = job.Defaults{Priority: ptr(7)}
		_, err = y.e.Load(ctx, job.SetupRequest{Setup: file})
		require.ErrorContains(t, err, "take it out of the file, or load with adopt")
		delete(file.Queues, "archive")
		delete(file.Tasks, "dues.charge")
		told, d = load(file, true, true)
		assert.Equal(t, []string{"queue berths change", "queue common adopt", "queue archive remove", "task dues.charge remove"}, told)
		assert.Equal(t, job.SetupField{Field: "max_running", Before: []byte("9"), After: []byte("2")}, d.Changes[0].Fields[0])
		assert.Equal(t, []job.SetupField{{Field: "priority", Before: []byte("null"), After: []byte("7")}, {Field: "turns", Before: []byte(`"owner"`), After: []byte("null")}}, d.Changes[1].Fields)
		load(file, true, false)
		tasks := y.e.Tasks(ctx)
		require.Len(t, tasks, 1, "the task stays")
		assert.True(t, tasks[0].Defaults == nil && !tasks[0].FromFile)

		bad := job.Setup{Queues: map[string]job.Defaults{"berths": {}, "Wrong": {}}, Tasks: map[string]job.Defaults{"x": {Rules: job.Rules{Order: job.ByAgeing}}}}
		_, err = y.e.Load(ctx, job.SetupRequest{Setup: bad})
		require.ErrorContains(t, err, "queues.Wrong")
		require.ErrorContains(t, err, "tasks.x.order")
		queues, err = y.e.Queues(ctx)
		require.NoError(t, err)
		assert.Equal(t, 2, *queues[1].MaxRunning, "nothing of it was loaded")
		actions, err := y.e.Actions(ctx, 0, 0, 10)
		require.NoError(t, err)
		assert.Equal(t, "load_setup", actions[0].Action)
		assert.Contains(t, string(actions[0].Detail), `"name":"common","change":"adopt"`)
	})
}
