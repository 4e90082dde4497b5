package job

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The table of the design, written out: every move that is allowed. All others
// are refused.
func TestMove(t *testing.T) {
	allowed := map[By]string{
		ByEnqueue: "new>held new>scheduled new>ready",
		ByRequeue: "done>held done>scheduled done>ready skipped>held skipped>scheduled skipped>ready " +
			"cancelled>held cancelled>scheduled cancelled>ready dead>held dead>scheduled dead>ready",
		ByDue:      "scheduled>held scheduled>scheduled scheduled>ready backoff>held backoff>scheduled backoff>ready",
		ByStartNow: "scheduled>held scheduled>scheduled scheduled>ready backoff>held backoff>scheduled backoff>ready",
		ByUnheld:   "held>held held>scheduled held>ready",
		ByPatch: "held>held held>scheduled held>ready scheduled>held scheduled>scheduled scheduled>ready " +
			"ready>held ready>scheduled ready>ready backoff>backoff",
		ByCancel: "held>cancelled scheduled>cancelled ready>cancelled backoff>cancelled",
		ByUndo: "held>held held>scheduled held>ready scheduled>held scheduled>scheduled scheduled>ready " +
			"ready>held ready>scheduled ready>ready backoff>held backoff>scheduled backoff>ready",
		ByStartBy: "held>skipped scheduled>skipped ready>skipped",
		ByAge:     "backoff>dead",
		ByLease:   "ready>running",
		BySettle: "running>done running>skipped running>dead running>backoff running>cancelled " +
			"running>held running>scheduled running>ready",
		ByLeaseEnd: "running>backoff running>dead running>cancelled",
	}
	for cause, list := range allowed {
		var found []string
		for from := range State(NumStates) {
			for to := range State(NumStates) {
				if Move(from, to, cause) == nil {
					found = append(found, from.String()+">"+to.String())
				}
			}
		}
		assert.ElementsMatch(t, strings.Fields(list), found, "by %s", cause)
	}
	assert.EqualError(t, Move(Done, Running, ByLease), "illegal move: a done job cannot become running by lease")
}

func TestPlace(t *testing.T) {
	const now = Time(1_000_000)
	for want, waits := range map[State][]Waits{
		Held:      {{HeldBack: true, Now: now}, {HeldBack: true, NextAt: now + 1, Now: now}, {LaneTaken: true, Now: now}, {LaneTaken: true, NextAt: now, Now: now}},
		Scheduled: {{NextAt: now + 1, Now: now}, {NextAt: now + 1, LaneTaken: true, Now: now}},
		Ready:     {{Now: now}, {NextAt: now, Now: now}, {NextAt: now - 1, Now: now}},
	} {
		for _, w := range waits {
			assert.Equal(t, want, Place(w), "%+v", w)
		}
	}
}

func TestDuration(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "1h30m": 90 * time.Minute, "2d": 48 * time.Hour, "2d12h": 60 * time.Hour, "250ms": 250 * time.Millisecond,
		"PT90S": 90 * time.Second, "P2DT1H": 49 * time.Hour, "P1W": 168 * time.Hour, "PT0.5S": 500 * time.Millisecond, "0s": 0,
	} {
		d, err := ParseDuration(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, d.Go(), text)
		again, err := ParseDuration(d.String())
		require.NoError(t, err, d.String())
		assert.Equal(t, d, again, "%s written and read again", text)
	}
	for _, text := range []string{"", "90", "-5s", "1x", "P", "PT", "P1Y", "P1M", "4000d", "1d-2h", "NaNs", "99999999999999d"} {
		_, err := ParseDuration(text)
		assert.Error(t, err, text)
	}
}

func TestTime(t *testing.T) {
	var at Time
	require.NoError(t, json.Unmarshal([]byte(`"2026-11-23T07:00:00.5+02:00"`), &at))
	written, err := json.Marshal(at)
	require.NoError(t, err)
	assert.Equal(t, `"2026-11-23T05:00:00.500Z"`, string(written))
	for _, bad := range []string{`"tomorrow"`, `"2026-11-23"`, `"1970-01-01T00:00:00Z"`, `5`} {
		assert.Error(t, json.Unmarshal([]byte(bad), &at), bad)
	}
}

func TestSpecCheck(t *testing.T) {
	ten, negative, nine := 10, -1, 9
	many := map[string]string{}
	for i := range 21 {
		many[strings.Repeat("x", i+1)] = ""
	}
	for want, s := range map[string]Spec{
		"task":          {},
		"task ":         {Task: "Tide Predict"},
		"queue":         {Task: "a", Queue: "Berths!"},
		"priority":      {Task: "a", Priority: &ten},
		"priority ":     {Task: "a", Priority: &negative},
		"delay":         {Task: "a", RunAt: At(time.Now()), Delay: Duration(time.Second)},
		"max_attempts":  {Task: "a", MaxAttempts: &negative},
		"payload":       {Task: "a", Payload: strings.Repeat("x", MaxPayloadBytes)},
		"payload ":      {Task: "a", Payload: func() {}},
		"owner":         {Task: "a", Owner: strings.Repeat("x", 201)},
		"key":           {Task: "a", Key: strings.Repeat("x", 201)},
		"labels":        {Task: "a", Labels: many},
		"labels.berth":  {Task: "a", Labels: map[string]string{"berth": strings.Repeat("x", 201)}},
		"traceparent":   {Task: "a", Traceparent: "00-abc"},
		"retry.curve":   {Task: "a", Retry: &Retry{Curve: "fibonacci"}},
		"retry.factor":  {Task: "a", Retry: &Retry{Factor: 0.5}},
		"retry.ceiling": {Task: "a", Retry: &Retry{First: Duration(time.Hour), Ceiling: Duration(time.Minute)}},
		"retry.first":   {Task: "a", Retry: &Retry{First: Duration(40 * day), Ceiling: Duration(50 * day)}},
		"":              {Task: "tide.predict", Priority: &nine, Payload: []int{1}},
		"retry.jitter":  {Task: "a", Retry: &Retry{Jitter: new(float64(2))}},
	} {
		wrong := s.Check(MaxPayloadBytes)
		if want == "" {
			assert.Empty(t, wrong)
			continue
		}
		require.NotEmpty(t, wrong, want)
		assert.Equal(t, strings.TrimSpace(want), wrong[0].Field)
		assert.NotEmpty(t, wrong[0].Message)
	}
}

func TestWaitingBecause(t *testing.T) {
	const now = Time(1_795_000_000_000)
	served := Wait{State: Ready, Now: now, Queue: "berths", Task: "berth.plan", QueueServed: true, TaskDone: true}
	with := func(change func(*Wait)) Wait {
		w := served
		change(&w)
		return w
	}
	for want, w := range map[string]Wait{
		"It is next in queue berths and waits for a free slot.":                                                  served,
		"1 job is ahead of it in queue berths.":                                                                  with(func(w *Wait) { w.Ahead = 1 }),
		"12 jobs are ahead of it in queue berths.":                                                               with(func(w *Wait) { w.Ahead = 12 }),
		"More than 1000 jobs are ahead of it in queue berths.":                                                   with(func(w *Wait) { w.Ahead = 1001 }),
		"No worker serves queue berths. Start one that does.":                                                    with(func(w *Wait) { w.QueueServed, w.Ahead = false, 5 }),
		"No worker of queue berths does berth.plan. Start one that has its handler.":                             with(func(w *Wait) { w.TaskDone = false }),
		"No worker of queue berths does berth.plna (the nearest is berth.plan). Start one that has its handler.": with(func(w *Wait) { w.Task, w.TaskDone, w.Nearest = "berth.plna", false, "berth.plan" }),
		"It is not due until 2026-11-18T11:11:40.000Z, in 5 min.":                                                {State: Scheduled, Now: now, NextAt: now + 300_000},
		"Try 3 of 17 failed; the next attempt is at 2026-11-18T11:06:44.000Z, in 4.0 s.":                         {State: Backoff, Now: now, NextAt: now + 4000, Tries: 3, MaxAttempts: 17},
		"Try 3, without limit, failed; the next attempt is at 2026-11-18T11:06:40.000Z, now.":                    {State: Backoff, Now: now, NextAt: now, Tries: 3},
		"": {State: Running},
	} {
		assert.Equal(t, want, WaitingBecause(w))
	}
}

func TestNearest(t *testing.T) {
	tasks := []string{"tide.predict", "manifest.check", "berth.plan", "tide.predict.all"}
	for name, want := range map[string]string{
		"tide.predcit": "tide.predict", "tide_predict": "tide.predict", "manifestcheck": "manifest.check", "bert.plan": "berth.plan",
		"fog.bulletin": "", "berth.plan": "", "tide.predict": "", "": "",
	} {
		assert.Equal(t, want, Nearest(name, tasks), name)
	}
	assert.Equal(t, 1, edits("ab", "ba"))
	assert.Equal(t, 3, edits("kitten", "sitting"))
}

func TestCut(t *testing.T) {
	assert.Equal(t, "short", Cut("short", 20))
	cut := Cut(strings.Repeat("é", 50), 40)
	assert.LessOrEqual(t, len(cut), 40)
	assert.True(t, strings.HasSuffix(cut, "é … (cut)"), cut)
}

func TestRoughly(t *testing.T) {
	for want, d := range map[string]time.Duration{
		"0 ms": 0, "250 ms": 250 * time.Millisecond, "1.5 s": 1500 * time.Millisecond, "42 s": 42 * time.Second, "119 s": 119 * time.Second,
		"2 min": 2 * time.Minute, "119 min": 119 * time.Minute, "2 h": 2 * time.Hour, "47 h": 47 * time.Hour, "3 days": 72 * time.Hour,
	} {
		assert.Equal(t, want, Roughly(d))
	}
	for want, n := range map[string]int64{"0": 0, "999": 999, "1\u202f000": 1000, "12\u202f345\u202f678": 12_345_678, "-1\u202f000": -1000, "-999": -999} {
		assert.Equal(t, want, Grouped(n))
	}
}

// The examples of RFC 7396, and what a patch does not touch keeps its bytes.
func TestMergePatch(t *testing.T) {
	for _, c := range [][3]string{
		{`{"a":"b"}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"b"}`, `{"b":"c"}`, `{"a":"b","b":"c"}`}, {`{"a":"b"}`, `{"a":null}`, `{}`},
		{`{"a":"b","b":"c"}`, `{"a":null}`, `{"b":"c"}`}, {`{"a":["b"]}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"c"}`, `{"a":["b"]}`, `{"a":["b"]}`},
		{`{"a":{"b":"c"}}`, `{"a":{"b":"d","c":null}}`, `{"a":{"b":"d"}}`}, {`{"a":[{"b":"c"}]}`, `{"a":[1]}`, `{"a":[1]}`}, {`["a","b"]`, `["c","d"]`, `["c","d"]`},
		{`{"a":"b"}`, `["c"]`, `["c"]`}, {`{"a":"foo"}`, `null`, `null`}, {`{"a":"foo"}`, `"bar"`, `"bar"`}, {`{"e":null}`, `{"a":1}`, `{"e":null,"a":1}`},
		{`[1,2]`, `{"a":"b","c":null}`, `{"a":"b"}`}, {`{}`, `{"a":{"bb":{"ccc":null}}}`, `{"a":{"bb":{}}}`},
		{`{"z":12345678901234567890.10,"a":"<é>"}`, `{"b":1}`, `{"z":12345678901234567890.10,"a":"<é>","b":1}`}, {``, `{"a":1}`, `{"a":1}`},
	} {
		got, err := MergePatch(json.RawMessage(c[0]), json.RawMessage(c[1]))
		require.NoError(t, err, c)
		assert.Equal(t, c[2], string(got), c)
	}
	_, err := MergePatch(json.RawMessage(`{}`), json.RawMessage(`{"a":`))
	assert.Error(t, err)
}
