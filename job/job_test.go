package job

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
	for _, bad := range []string{`"tomorrow"`, `"2026-11-23"`, `"1970-01-01T00:00:00Z"`, `"9999-12-31T23:30:00-01:00"`, `"2000-01-01T00:30:00+01:00"`, `5`} {
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
		"payload":       {Task: "a", Payload: JSON(strings.Repeat("x", MaxPayloadBytes))},
		"owner":         {Task: "a", Owner: strings.Repeat("x", 201)},
		"key":           {Task: "a", Key: strings.Repeat("x", 201)},
		"labels":        {Task: "a", Labels: many},
		"labels.berth":  {Task: "a", Labels: map[string]string{"berth": strings.Repeat("x", 201)}},
		"traceparent":   {Task: "a", Traceparent: "00-abc"},
		"retry.curve":   {Task: "a", Retry: &Retry{Curve: "fibonacci"}},
		"retry.factor":  {Task: "a", Retry: &Retry{Factor: 0.5}},
		"retry.ceiling": {Task: "a", Retry: &Retry{First: Duration(time.Hour), Ceiling: Duration(time.Minute)}},
		"retry.first":   {Task: "a", Retry: &Retry{First: Duration(40 * day), Ceiling: Duration(50 * day)}},
		"":              {Task: "tide.predict", Priority: &nine, Payload: JSON([]int{1})},
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
	_, err := (&Spec{Task: "a", Payload: json.RawMessage("{")}).Frozen()
	assert.ErrorContains(t, err, "payload cannot be written as JSON")
}
