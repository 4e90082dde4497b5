package veil

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is named is hidden, wherever it stands and whatever it is; all else keeps its bytes.
func TestOver(t *testing.T) {
	for _, c := range []struct {
		value, want string
		pointers    []string
	}{
		{`{"card":"4111","n":1.10}`, `{"card":"(hidden)","n":1.10}`, []string{"/card"}},
		{`{ "card" : {"no":"4111"} , "z":12345678901234567890 }`, `{ "card" : "(hidden)" , "z":12345678901234567890 }`, []string{"/card"}},
		{`{"a":{"b":[1,{"c":"x"}]}}`, `{"a":{"b":[1,{"c":"(hidden)"}]}}`, []string{"/a/b/1/c"}},
		{`{"a":{"b":[1,2]}}`, `{"a":{"b":["(hidden)",2]}}`, []string{"/a/b/0"}},
		{`{"a/b":1,"~":2,"":3}`, `{"a/b":"(hidden)","~":"(hidden)","":"(hidden)"}`, []string{"/a~1b", "/~0", "/"}},
		{`{"card":null,"email":"a@b"}`, `{"card":"(hidden)","email":"(hidden)"}`, []string{"/card", "/email", "/phone"}},
		{`{"other":1}`, `{"other":1}`, []string{"/card"}},
		{`[1,2]`, `[1,2]`, []string{"/card", "/7", "/-1", "/01"}},
		{`"4111"`, `"4111"`, []string{"/card"}},
		{`null`, `null`, []string{"/card"}},
		{`{"card":"4111"`, `"(hidden)"`, []string{"/x"}},
		{``, `"(hidden)"`, []string{"/x"}},
		{`{"card":1,"n":{},"card":{"no":2},"card":3}`, `{"card":"(hidden)","n":{},"card":"(hidden)","card":"(hidden)"}`, []string{"/card"}},
		{`{"card":1,"n":2`, `"(hidden)"`, []string{"/card"}},
		{`{"\u0063ard":"4111"}`, `{"\u0063ard":"(hidden)"}`, []string{"/card"}},
	} {
		assert.Equal(t, c.want, string(Over(json.RawMessage(c.value), c.pointers...)), c.value)
	}
}

// A pointer finds what stands there, and nothing where that is not, or where the value is not whole.
func TestAt(t *testing.T) {
	for _, c := range [][3]string{
		{`{"agent":"Heron & Sons","n":1.10}`, "/n", `1.10`}, {`{ "a" : {"b":[1, {"c":"x"} ]}}`, "/a/b/1/c", `"x"`}, {`{"a/b":1,"~":[2]}`, "/~0/0", `2`}, {`{"a/b": 1 }`, "/a~1b", `1`},
		{`{"a":1,"a":{"b":2}}`, "/a", `{"b":2}`}, {`{"\u0061gent":"x"}`, "/agent", `"x"`}, {`{"":null}`, "/", `null`},
		{`[1,2]`, "/2", ``}, {`[1,2]`, "/01", ``}, {`[1,2]`, "/a", ``}, {`"x"`, "/a", ``}, {`{"a":"x"`, "/a", ``}, {`{"a":"x"} y`, "/a", ``}, {``, "/a", ``}, {`{"a":1}`, "a", ``}, {`{"a":1}`, "/a/b", ``},
	} {
		assert.Equal(t, c[2], string(At(json.RawMessage(c[0]), c[1])), "%s of %s", c[1], c[0])
	}
}

// An edit that brings a mark leaves what was there; one that brings another value sets it.
func TestRestore(t *testing.T) {
	for _, c := range [][3]string{
		{`{"card":"(hidden)","n":2}`, `{"card":{"no":1.10},"n":1}`, `{"card":{"no":1.10},"n":2}`},
		{`{"card":"other"}`, `{"card":"4111"}`, `{"card":"other"}`},
		{`{"n":2}`, `{"card":"4111"}`, `{"n":2}`},
		{`{"card":"(hidden)"}`, `{"n":1}`, `{"card":"(hidden)"}`},
		{`7`, `{"card":"4111"}`, `7`},
		{`{"card":"(hidden)"}`, ``, `{"card":"(hidden)"}`},
	} {
		assert.Equal(t, c[2], string(Restore(json.RawMessage(c[0]), json.RawMessage(c[1]), "/card")), c[0])
	}
	for pointer, valid := range map[string]bool{"/card": true, "/a~1b/~0": true, "/": true, "": false, "card": false, "/a~": false, "/a~2": false} {
		assert.Equal(t, valid, Valid(pointer), pointer)
	}
}

// parts are all pointers into a value, each with what stands there.
func parts(value any, at string, tell func(pointer string, part any)) {
	switch v := value.(type) {
	case map[string]any:
		for name, part := range v {
			pointer := at + "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(name)
			tell(pointer, part)
			parts(part, pointer, tell)
		}
	case []any:
		for i, part := range v {
			pointer := at + "/" + strconv.Itoa(i)
			tell(pointer, part)
			parts(part, pointer, tell)
		}
	}
}

// Of any value, each part is found by its pointer; hidden, it is the only one that changes; and restored, the
// value is what it was, to the byte.
func TestEveryPart(t *testing.T) {
	draw := rand.New(rand.NewPCG(6901, 1))
	var value func(depth int) any
	value = func(depth int) any {
		n := draw.IntN(9)
		if depth == 0 {
			n = draw.IntN(7)
		}
		switch n {
		case 7:
			all := map[string]any{}
			for range draw.IntN(4) {
				all[[]string{"", "a", "a/b", "~", "~1", "0", "é", "\x00", "card", "<&>"}[draw.IntN(10)]] = value(depth - 1)
			}
			return all
		case 8:
			all := []any{}
			for range draw.IntN(4) {
				all = append(all, value(depth-1))
			}
			return all
		}
		return []any{nil, true, 1.5, json.Number("12345678901234567890"), "", `"{[\`, Mark}[n]
	}
	read := func(raw json.RawMessage) (v any) {
		d := json.NewDecoder(bytes.NewReader(raw))
		d.UseNumber()
		require.NoError(t, d.Decode(&v))
		return v
	}
	for range 400 {
		raw, err := json.Marshal(value(4))
		require.NoError(t, err)
		if draw.IntN(2) == 0 {
			var spread bytes.Buffer
			require.NoError(t, json.Indent(&spread, raw, " ", "\t"))
			raw = spread.Bytes()
		}
		parts(read(raw), "", func(pointer string, part any) {
			require.True(t, Valid(pointer))
			require.Equal(t, part, read(At(raw, pointer)), "%s of %s", pointer, raw)
			hidden := Over(raw, pointer)
			require.Equal(t, mark, At(hidden, pointer))
			parts(read(hidden), "", func(other string, now any) {
				if !strings.HasPrefix(pointer+"/", other+"/") {
					require.Equal(t, read(At(raw, other)), now, "%s of %s, with %s hidden", other, raw, pointer)
				}
			})
			require.Equal(t, string(raw), string(Restore(hidden, raw, pointer)), pointer)
			require.Nil(t, At(raw, pointer+"/no such"))
		})
	}
}
