package fields

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/api"
	"humblemule.example/job"
)

// What differs between settings is told field by field.
func TestDiffer(t *testing.T) {
	six := 6
	assert.Empty(t, Differ(nil, &api.Defaults{}))
	got := Differ(&api.Defaults{Priority: &six, Rules: api.Rules{Turns: api.TurnsOwner}}, &api.Defaults{Priority: &six, Timeout: job.Duration(time.Minute)})
	assert.Equal(t, []api.SetupField{{Field: "timeout", Before: []byte("null"), After: []byte(`"1m"`)}, {Field: "turns", Before: []byte(`"owner"`), After: []byte("null")}}, got)
}
