package watch

import (
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
)

// Whoever was away for a moment is told what was missed and nothing twice; whoever was away for
// longer than the parts are kept, or knows another start of the service, is told that everything
// may have changed.
func TestWatchAfter(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ws := New(nil, nil)
		nudge := func() { ws.Nudge(Changes{Queues: true}); time.Sleep(2 * sealEvery) }
		w := ws.Watch("", api.EventFilter{})
		<-w.C
		first := w.Take()
		assert.True(t, first.Reset)
		w.Close()

		again := ws.Watch(first.Mark, api.EventFilter{})
		synctest.Wait()
		require.Empty(t, again.C, "nothing was missed")
		nudge()
		ws.Nudge(Changes{Workers: true})
		<-again.C
		missed := again.Take()
		assert.Equal(t, []any{false, true, true}, []any{missed.Reset, missed.Queues, missed.Workers})
		assert.NotEqual(t, first.Mark, missed.Mark)
		late := ws.Watch(first.Mark, api.EventFilter{})
		<-late.C
		told := late.Take()
		assert.Equal(t, []any{missed.Mark, false, true, true}, []any{told.Mark, told.Reset, told.Queues, told.Workers})

		again.Close()
		late.Close()
		time.Sleep(2 * time.Minute)
		nudge()
		gone := ws.Watch(told.Mark, api.EventFilter{})
		<-gone.C
		assert.True(t, gone.Take().Reset, "nobody was listening for too long")
		late = ws.Watch("", api.EventFilter{})
		<-late.C
		late.Take()

		for range partsKept + 1 {
			nudge()
		}
		slow := late.Take()
		assert.True(t, slow.Reset, "it took nothing while more was told than is kept")
		for _, mark := range []string{first.Mark, "", "other-3", missed.Mark[:3], fmt.Sprint(ws.epoch, "-", ws.last+1), ws.epoch + "--1"} {
			other := ws.Watch(mark, api.EventFilter{})
			<-other.C
			assert.True(t, other.Take().Reset, mark)
		}
	})
}

// However fast things change, a watcher is called no more than four times a second.
func TestGathered(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ws := New(nil, nil)
		w := ws.Watch("", api.EventFilter{})
		<-w.C
		w.Take()
		calls := 0
		for until := time.Now().Add(10 * time.Second); time.Now().Before(until); time.Sleep(time.Millisecond) {
			ws.Nudge(Changes{Queues: true})
			select {
			case <-w.C:
				w.Take()
				calls++
			default:
			}
		}
		assert.InDelta(t, 40, calls, 1)
		time.Sleep(sealEvery)
		<-w.C // the last of it is told too
	})
}
