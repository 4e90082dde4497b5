package cli

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/job"
)

// A list that is not whole says so, how far it was searched, and how it goes on.
func TestListSaysHowFar(t *testing.T) {
	two, seven := int64(2), int64(7)
	jobs := []job.Job{{ID: 41, State: job.Ready, Task: "log.pack"}, {ID: 42, State: job.Ready, Task: "log.pack"}}
	for _, c := range []struct {
		page api.Page
		says []string
		not  []string
	}{
		{api.Page{}, []string{"No job matches."}, []string{"earched", "--limit"}},
		{api.Page{Jobs: jobs, Matched: &two}, []string{"42"}, []string{"earched", "--limit"}},
		{api.Page{Jobs: jobs, Matched: &seven, NextCursor: "abc"}, []string{"7 match; --limit"}, []string{"earched"}},
		{api.Page{Jobs: jobs, NextCursor: "abc"}, []string{"There are more; --limit"}, []string{"earched"}},
		{api.Page{NextCursor: "abc", SearchedTo: 12, SearchedToAt: 1}, []string{"among those that were searched", "as far as job 12, enqueued 1970", "--cursor abc"}, nil},
		{api.Page{Jobs: jobs, NextCursor: "abc", SearchedTo: 12}, []string{"41", "as far as job 12.", "--cursor abc"}, []string{"--limit", "enqueued 1970"}},
	} {
		var b bytes.Buffer
		listJobs(present.NewWide(&b, 100), c.page, true)
		for _, text := range c.says {
			assert.Contains(t, b.String(), text)
		}
		for _, text := range c.not {
			assert.NotContains(t, b.String(), text)
		}
	}
}
