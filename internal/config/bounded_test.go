package config

import (
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file that would take the machine's memory is refused at once; aliases that stay
// within bounds are read.
func TestBounds(t *testing.T) {
	bomb := "schedules:\n  s:\n    every: 1h\n    job:\n      task: a\n      payload:\n        p0: &a0 [x,x,x,x,x,x,x,x,x]\n"
	for i := range 9 {
		bomb += fmt.Sprintf("        p%d: &a%d [%s*a%d]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*a%d,", i), 8), i)
	}
	began := worked(t)
	for text, want := range map[string]string{
		bomb: "once its aliases are written out",
		"queues: " + strings.Repeat("[", 20_000) + strings.Repeat("]", 20_000):    "f.yaml:1:109: it is nested more than 100 levels deep",
		"queues: " + strings.Repeat("{a: ", 20_000) + strings.Repeat("}", 20_000): "nested more than 100 levels deep",
		"queues:\n  " + strings.Repeat("- ", 20_000) + "a":                        "nested more than 100 levels deep",
		"queues: {" + strings.Repeat(" ", mostBytes) + "}":                        "bytes; at most",
	} {
		_, err := ParseSetup("f.yaml", []byte(text))
		assert.ErrorContains(t, err, want)
	}
	assert.Less(t, worked(t)-began, 3*time.Second)
	assert.NoError(t, bounded("f.yaml", []byte("tides: &one [1, 2]\nagain: [*one, *one]\n")))
}

// worked is how long the process has had a processor: others do not matter.
func worked(t *testing.T) time.Duration {
	var used syscall.Rusage
	require.NoError(t, syscall.Getrusage(syscall.RUSAGE_SELF, &used))
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}
