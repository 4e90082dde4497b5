package status

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/api"
	"humblemule.example/job"
)

const now = job.Time(1_795_000_000_000)

// part is something that is so, with the headline that it makes alone.
type part struct {
	kind, says string
	make       func(s *Standing)
}

// parts are all that can be so, the worst first.
var parts = []part{
	{api.FactRefused, "The disk has taken no writes since 2026-11-18T11:05:00.000Z.", func(s *Standing) { s.RefusingSince = now.Add(-95*time.Second) - 25_000 + 20_000 }},
	{api.FactDisk, "Only 12 MiB are free.", func(s *Standing) { s.Disk = "only 12 MiB are free" }},
	{api.FactNoWorker, "No worker serves queue bindery: 2 jobs are ready and waiting.", func(s *Standing) { s.Untaken = []Untaken{{Queue: "bindery", Ready: 2}} }},
	{api.FactPaused, "Queue archive has been paused by ada since 2026-11-18T11:06:40.000Z; none of its jobs starts.", func(s *Standing) {
		s.Queues = append(s.Queues, api.Queue{Name: "archive", Paused: true, PausedBy: "ada", PausedAt: now, Counts: map[job.State]int64{job.Ready: 3}})
	}},
	{api.FactBehind, "Queue berths is falling behind: 12.0 jobs come in per minute, 7.1 can finish.", func(s *Standing) {
		s.Queues = append(s.Queues, api.Queue{Name: "berths", Counts: map[job.State]int64{job.Ready: 58}, Pace: api.Pace{Slots: 6, CapacityPerMinute: 7.1, Utilisation: 12 / 7.1, Binds: api.BoundBySlots, Clear: &api.Clear{}}, OldestReadyMS: 480_000})
	}},
	{api.FactStuck, "Batch 7 (voyage 12) is stuck.", func(s *Standing) { s.Stuck = []api.Batch{{ID: 7, Name: "voyage 12"}} }},
	{api.FactNewCause, "New cause: line #: the weight “…” is not a number.", func(s *Standing) {
		s.Causes = append(s.Causes, api.Cause{ID: 7, Template: "line #: the weight “…” is not a number", Count: 5, FirstAt: now.Add(-time.Hour), By: []api.CauseCount{{Task: "manifest.check", Version: "2.4", Host: "quay-3", Count: 2}, {Task: "manifest.check", Version: "2.4", Host: "quay-3", Queue: "archive", Count: 3}}})
	}},
	{api.FactSchedule, "The last 3 runs of schedule dues failed; no run was ever done.", func(s *Standing) { s.Schedules = []Schedule{{Name: "dues", Failed: 3}} }},
	{api.FactInDoubt, "1 job has steps that may or may not be done.", func(s *Standing) { s.InDoubt = 1 }},
	{api.FactSetAside, "", func(s *Standing) { s.SetAside = []api.SetAside{{}} }},
	{api.FactName, "Worker quay serves queue bindry, which has no jobs (the nearest is bindery).", func(s *Standing) { s.Typos = []Typo{{"quay", "bindry", "bindery"}} }},
}

// calm are what else may be so, while nobody is needed.
var calm = []part{
	{api.FactOperation, "1\u202f200 jobs are being requeued.", func(s *Standing) {
		s.Operations = []api.Operation{{ID: 3, State: api.OpRunning, By: "ada", Matched: 1200, Changed: 640, ActRequest: api.ActRequest{Action: api.ActRequeue}}}
	}},
	{api.FactFine, "All is well: 124 jobs came and 121 finished within the last hour.", func(*Standing) {}},
	{api.FactDead, "8 dead letters of 1 known cause.", func(s *Standing) {
		s.Causes = append(s.Causes, api.Cause{ID: 9, Template: "closed", Count: 8, FirstAt: now.Add(-48 * time.Hour)})
	}},
}

func standing(with ...part) *Standing {
	s := &Standing{Now: now, Counts: map[job.State]int64{job.Done: 9}, Came: 124, Finished: 121}
	for _, p := range with {
		p.make(s)
	}
	return s
}

// Of any two things that are wrong the worse comes first, whatever else is so; each has
// its own headline, and while any is wrong nobody says that all is well.
func TestPrecedence(t *testing.T) {
	for i, worse := range parts {
		alone := Facts(standing(worse))
		assert.Equal(t, worse.kind, alone[0].Kind)
		assert.True(t, alone[0].Wrong, worse.kind)
		assert.NotEmpty(t, alone[0].Act, worse.kind)
		if worse.says != "" {
			assert.Equal(t, worse.says, alone[0].Text)
		}
		for _, better := range append(parts[i+1:len(parts):len(parts)], calm...) {
			both := Facts(standing(better, worse))
			assert.Equal(t, worse.kind, both[0].Kind, "%s before %s", worse.kind, better.kind)
			for _, f := range both {
				assert.NotEqual(t, api.FactFine, f.Kind, "%s with %s", worse.kind, better.kind)
			}
		}
	}
	assert.Equal(t, "5 dead letters of manifest.check, all on host quay-3, in version 2.4, since 2026-11-18T10:06:40.000Z.", Facts(standing(parts[6]))[0].Detail)
	all := Facts(standing(append(append([]part(nil), parts...), calm...)...))
	for i, p := range parts {
		assert.Equal(t, p.kind, all[i].Kind)
	}
	assert.Equal(t, []string{api.FactOperation, api.FactDead}, []string{all[len(parts)].Kind, all[len(parts)+1].Kind})
}

// Where nobody is needed the first fact says how one knows, or what is under way.
func TestAllIsWell(t *testing.T) {
	for _, p := range calm {
		f := Facts(standing(p))
		said := []string{f[0].Text}
		if len(f) > 1 {
			said = append(said, f[1].Text)
		}
		assert.Contains(t, said, p.says)
		assert.False(t, f[0].Wrong)
	}
	assert.Equal(t, "No job has been enqueued yet.", Facts(&Standing{})[0].Text)
	assert.Equal(t, "No job is ready and waiting.", Facts(standing())[0].Detail)
	waiting := standing()
	waiting.Queues = []api.Queue{{Name: "common", OldestReadyMS: 400, Counts: map[job.State]int64{job.Ready: 1}}}
	assert.Equal(t, "The oldest ready job has waited 400 ms.", Facts(waiting)[0].Detail)
}

// A queue is behind where it will not be clear for long, and not where some jobs only wait their
// turn; of many only the worst are told, with how many more there are.
func TestBehind(t *testing.T) {
	queue := func(ready int64, likely job.Time) api.Queue {
		return api.Queue{Name: "berths", Counts: map[job.State]int64{job.Ready: ready}, Pace: api.Pace{Slots: 6, CapacityPerMinute: 7, Clear: &api.Clear{Likely: likely, Latest: likely}}}
	}
	for want, q := range map[string]api.Queue{
		"Queue berths is behind: 58 jobs are waiting, clear by 2026-11-18T12:06:40.000Z.": queue(58, now.Add(time.Hour)),
		"All is well: 124 jobs came and 121 finished within the last hour.":               queue(58, now.Add(time.Minute)),
		"Queue berths is falling behind: 0.0 jobs come in per minute, 7.0 can finish.":    queue(58, 0),
	} {
		s := standing()
		s.Queues = []api.Queue{q}
		assert.Equal(t, want, Facts(s)[0].Text)
	}
	few := standing()
	few.Queues = []api.Queue{queue(12, 0)}
	assert.Equal(t, api.FactFine, Facts(few)[0].Kind, "a dozen jobs before six slots")
	many := standing()
	for range 5 {
		many.Untaken = append(many.Untaken, Untaken{Queue: "bindery", Task: "log.bind", Ready: 1, Served: true, Nearest: "log.pack"})
	}
	facts := Facts(many)
	assert.Len(t, facts, 4)
	assert.Equal(t, "No worker takes the jobs of 2 more groups.", facts[3].Text)
	many.Untaken = many.Untaken[1:]
	assert.Equal(t, "No worker takes the jobs of 1 more group.", Facts(many)[3].Text)
	assert.Equal(t, "No worker of queue bindery does task log.bind (the nearest is log.pack): 1 job is ready and waiting.", facts[0].Text)
}
