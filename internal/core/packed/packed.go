// Package packed reads values that stand one behind the other: numbers as varints, and bytes
// behind their length. They are written by the functions of package encoding/binary, and
// [AppendBytes].
package packed

import (
	"encoding/binary"
	"errors"
)

// ErrCut says that something else stands there than what should, or nothing.
var ErrCut = errors.New("packed values are cut short, or are none")

// AppendBytes appends bytes behind their length.
func AppendBytes[T []byte | string](b []byte, v T) []byte {
	return append(binary.AppendUvarint(b, uint64(len(v))), v...)
}

// Reader reads packed values. After one that is not there it reads none: all are zero, and
// Err says so.
type Reader struct {
	rest []byte
	err  error
}

// Read gives a reader of bytes. What it gives are parts of them.
func Read(b []byte) *Reader { return &Reader{rest: b} }

// More tells whether something is left to be read.
func (r *Reader) More() bool { return len(r.rest) > 0 }

// Rest is what is left.
func (r *Reader) Rest() []byte { return r.rest }

// Err is what has gone wrong, if anything.
func (r *Reader) Err() error { return r.err }

// Fail notes that a value cannot be right.
func (r *Reader) Fail() { r.rest, r.err = nil, ErrCut }

// Unsigned reads a number, and Int one that is not negative.
func (r *Reader) Unsigned() uint64 {
	v, n := binary.Uvarint(r.rest)
	if n <= 0 {
		r.Fail()
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

// Int goes with [Reader.Unsigned].
func (r *Reader) Int() int64 {
	v := int64(r.Unsigned())
	if v < 0 {
		r.Fail()
		return 0
	}
	return v
}

// Signed reads a number that may be negative.
func (r *Reader) Signed() int64 {
	v, n := binary.Varint(r.rest)
	if n <= 0 {
		r.Fail()
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

// Take reads so many bytes.
func (r *Reader) Take(n int) (b []byte) {
	if n < 0 || n > len(r.rest) {
		r.Fail()
		return nil
	}
	b, r.rest = r.rest[:n], r.rest[n:]
	return b
}

// Bytes reads bytes behind their length, and String a text.
func (r *Reader) Bytes() []byte {
	n := r.Unsigned()
	if n > uint64(len(r.rest)) {
		r.Fail()
		return nil
	}
	return r.Take(int(n))
}

// String goes with [Reader.Bytes].
func (r *Reader) String() string { return string(r.Bytes()) }
