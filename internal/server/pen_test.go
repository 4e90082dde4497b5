package server

import (
	stdjson "encoding/json"
	"math/rand/v2"
	"reflect"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// TestPen holds what is written field by field against package json: with each field alone,
// so that none is forgotten, and with many at once.
func TestPen(t *testing.T) {
	draw := rand.New(rand.NewPCG(6853, 14))
	same := func(v any) {
		t.Helper()
		want, wrong := json.Marshal(v, out)
		got, err := written([]byte("before "), v)
		require.Equal(t, wrong == nil, err == nil, "%+v: %v, %v", v, wrong, err)
		if wrong == nil {
			require.Equal(t, "before "+string(want), string(got))
		}
	}
	for _, kind := range []reflect.Type{reflect.TypeFor[job.Job](), reflect.TypeFor[api.LeaseAnswer](), reflect.TypeFor[settleAnswer](), reflect.TypeFor[api.Enqueued](), reflect.TypeFor[api.EnqueuedMany]()} {
		empty := reflect.New(kind).Elem()
		same(empty.Interface())
		for i := range kind.NumField() {
			for range 20 {
				one := reflect.New(kind).Elem()
				fillIn(draw, one.Field(i), 1)
				same(one.Interface())
			}
		}
		for range 500 {
			all := reflect.New(kind).Elem()
			fillIn(draw, all, 0.4)
			same(all.Interface())
		}
	}
}

// texts are strings that are written in a way of their own.
var texts = []string{"", "tide.predict", `"`, `\`, "<&>", "\u2028", "é\x00\n\t", "\U0001F41F", "\xff", "a\xc3"}

var raws = []string{"null", "1", ` { "a" : 1.0 , "b" : [ ] } `, `"\u00e9 <\/>"`, `""`, "", "{", `{"a":1,"a":2}`}

// fillIn gives a value's fields something, each as likely as told.
func fillIn(draw *rand.Rand, v reflect.Value, likely float64) {
	if draw.Float64() >= likely && v.Kind() != reflect.Struct {
		return
	}
	switch v.Interface().(type) {
	case stdjson.RawMessage:
		v.SetBytes([]byte(raws[draw.IntN(len(raws))]))
		return
	case job.State:
		v.SetUint(draw.Uint64N(uint64(job.NumStates)))
		return
	case job.Time:
		v.SetInt(draw.Int64N(4e12) - 1e12)
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(texts[draw.IntN(len(texts))])
	case reflect.Int, reflect.Int64:
		v.SetInt(draw.Int64N(1<<53) - 1<<52)
	case reflect.Float64:
		v.SetFloat(draw.Float64() * 100)
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fillIn(draw, v.Elem(), likely)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), draw.IntN(3), 3))
		for i := range v.Len() {
			fillIn(draw, v.Index(i), likely)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		for _, k := range []string{"z", "a", "\""} {
			value := reflect.New(v.Type().Elem()).Elem()
			fillIn(draw, value, likely)
			key := reflect.ValueOf(k)
			if v.Type().Key() == reflect.TypeFor[job.State]() {
				key = reflect.ValueOf(job.States()[draw.IntN(9)])
			}
			v.SetMapIndex(key.Convert(v.Type().Key()), value)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fillIn(draw, v.Field(i), likely)
			}
		}
	}
}
