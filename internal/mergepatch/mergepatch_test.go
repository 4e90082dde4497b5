package mergepatch

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
		got, err := Apply(json.RawMessage(c[0]), json.RawMessage(c[1]))
		require.NoError(t, err, c)
		assert.Equal(t, c[2], string(got), c)
	}
	_, err := Apply(json.RawMessage(`{}`), json.RawMessage(`{"a":`))
	assert.Error(t, err)
}
