package text

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCut(t *testing.T) {
	assert.Equal(t, "short", Cut("short", 20))
	cut := Cut(strings.Repeat("é", 50), 40)
	assert.LessOrEqual(t, len(cut), 40)
	assert.True(t, strings.HasSuffix(cut, "é … (cut)"), cut)
}
