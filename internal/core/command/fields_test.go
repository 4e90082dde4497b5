package command

import (
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// A spec, the table of its fields, what openapi.yaml says of it, and the job's row agree.
func TestFields(t *testing.T) {
	var written []string
	for f := range reflect.TypeFor[job.Spec]().Fields() {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		written = append(written, name)
	}
	var listed []string
	row := reflect.TypeFor[store.Row]()
	for _, f := range job.Fields() {
		listed = append(listed, f.Name)
		column := strings.ReplaceAll(f.Column, "_", "")
		_, kept := row.FieldByNameFunc(func(name string) bool { return strings.EqualFold(name, column) })
		assert.True(t, kept, "%s is kept in %s", f.Name, f.Column)
	}
	assert.Equal(t, written, listed, "the table has the fields of a spec, in their order")

	raw, err := os.ReadFile("../../server/openapi.yaml")
	require.NoError(t, err)
	var described struct {
		Components struct {
			Schemas map[string]struct{ Properties map[string]any }
		}
	}
	require.NoError(t, yaml.Unmarshal(raw, &described))
	properties := described.Components.Schemas["Spec"].Properties
	for name := range properties {
		assert.Contains(t, listed, name, "openapi.yaml describes it")
	}
	for _, name := range listed {
		assert.Contains(t, properties, name, "openapi.yaml leaves it out")
	}
	member := described.Components.Schemas["BatchJob"].Properties
	followUp := described.Components.Schemas["FollowUp"].Properties
	properties["ref"], properties["join"] = followUp["ref"], followUp["join"]
	assert.Equal(t, properties, followUp, "a follow-up is a spec that may join a batch")
	properties["ref"] = member["ref"]
	delete(properties, "dedupe")
	delete(properties, "join")
	assert.Equal(t, properties, member, "a job of a batch is a spec with a ref")
}

// Each field is set, told and compared by what it is.
func TestFieldsAreThemselves(t *testing.T) {
	few, priority, keep := 3, 7, job.Duration(1e9)
	full := job.Spec{
		Task: "tide.predict", Payload: job.JSON(3), Queue: "berths", Priority: &priority, RunAt: 1, StartBy: 2, Delay: 3, MaxAttempts: &few, Retry: &job.Retry{Curve: job.Fixed}, Timeout: 4,
		Owner: "Marsh Agency", Lane: "a", Labels: map[string]string{"ship": "Heron"}, Key: "k", Dedupe: "24h", KeepResult: &keep, Traceparent: "00", After: &job.After{Jobs: []int64{1}}, Call: &job.Call{URL: "https://bank.example"}, Notify: []job.Notify{{Endpoint: "customs"}},
	}
	for _, f := range job.Fields() {
		var one job.Spec
		assert.False(t, f.Same(&one, &full), f.Name)
		f.Set(&one, &full)
		assert.True(t, f.Same(&one, &full), f.Name)
		for _, other := range job.Fields() {
			assert.Equal(t, other.Name == f.Name, other.Same(&one, &full), "%s sets %s", f.Name, other.Name)
		}
	}
}
