package nearest

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearest(t *testing.T) {
	tasks := []string{"tide.predict", "manifest.check", "berth.plan", "tide.predict.all"}
	for name, want := range map[string]string{
		"tide.predcit": "tide.predict", "tide_predict": "tide.predict", "manifestcheck": "manifest.check", "bert.plan": "berth.plan",
		"fog.bulletin": "", "berth.plan": "", "tide.predict": "", "": "",
	} {
		assert.Equal(t, want, To(name, tasks), name)
	}
	assert.Equal(t, 1, edits("ab", "ba"))
	assert.Equal(t, 3, edits("kitten", "sitting"))
}
