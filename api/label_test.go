package api

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A label is read as it was written, whatever its name and its value.
func TestLabelPair(t *testing.T) {
	draw := rand.New(rand.NewPCG(16, 1))
	word := func() (s string) {
		for range draw.IntN(6) {
			s += []string{"a", ":", "=", "%", "3", "A", "%3A", "ü", " ", "🚢", "+", "/"}[draw.IntN(12)]
		}
		return s
	}
	for range 5000 {
		name, value := word(), word()
		n, v, ok := ReadLabelPair(LabelPair(name, value))
		assert.Equal(t, []any{name, value, true}, []any{n, v, ok})
		var f NewFollow
		text, err := NewFollow{name, value}.MarshalText()
		assert.NoError(t, err)
		assert.NoError(t, f.UnmarshalText(text))
		assert.Equal(t, NewFollow{name, value}, f)
	}
	for text, want := range map[string]NewFollow{"customer=acme": {"customer", "acme"}, "a=b:c": {"a", "b:c"}, "a:b=c": {"a", "b=c"}, "50%:c": {"50%", "c"}, "acme": {"acme", ""}, "": {}} {
		n, v, ok := ReadLabelPair(text)
		assert.Equal(t, want, NewFollow{n, v}, text)
		assert.Equal(t, len(text) > 4, ok, text)
	}
}
