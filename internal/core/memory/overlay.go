package memory

import "iter"

// Overlay is a map as a transaction sees it: what was committed, and over that what the
// transaction has changed. Nothing that was committed changes before publish: a value is
// put in the place of another, never altered.
//
// The committer alone calls its methods, but for Kept, AllKept and NumKept, which tell what
// was committed: others call these under the memory's read lock.
type Overlay[K comparable, V any] struct {
	kept    map[K]V
	changed map[K]change[V]
	// more is how many more entries there are than in kept.
	more int
}

type change[V any] struct {
	value V
	gone  bool
}

// Get tells the value of a key as the transaction sees it, and whether there is one.
func (o *Overlay[K, V]) Get(k K) (v V, found bool) {
	if len(o.changed) > 0 {
		if c, changed := o.changed[k]; changed {
			return c.value, !c.gone
		}
	}
	v, found = o.kept[k]
	return v, found
}

// At tells the value of a key as the transaction sees it: the zero value where there is none.
func (o *Overlay[K, V]) At(k K) V {
	v, _ := o.Get(k)
	return v
}

// Mine tells the value that the transaction itself has put at a key.
func (o *Overlay[K, V]) Mine(k K) (v V, put bool) {
	c, changed := o.changed[k]
	return c.value, changed && !c.gone
}

// Put sets the value of a key.
func (o *Overlay[K, V]) Put(k K, v V) { o.set(k, change[V]{value: v}) }

// Delete takes a key away.
func (o *Overlay[K, V]) Delete(k K) { o.set(k, change[V]{gone: true}) }

func (o *Overlay[K, V]) set(k K, c change[V]) {
	_, was := o.Get(k)
	if o.changed == nil {
		o.changed = map[K]change[V]{}
	}
	switch o.changed[k] = c; {
	case was && c.gone:
		o.more--
	case !was && !c.gone:
		o.more++
	}
}

// Len counts the keys as the transaction sees them.
func (o *Overlay[K, V]) Len() int { return len(o.kept) + o.more }

// All visits what the transaction sees. What is put meanwhile may be visited or not.
func (o *Overlay[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for k, v := range o.kept {
			if _, changed := o.changed[k]; !changed && !yield(k, v) {
				return
			}
		}
		for k, v := range o.Changed() {
			if !yield(k, v) {
				return
			}
		}
	}
}

// Changed visits what the transaction has put.
func (o *Overlay[K, V]) Changed() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for k, c := range o.changed {
			if !c.gone && !yield(k, c.value) {
				return
			}
		}
	}
}

// Gone visits what the transaction has taken away, with what was committed of it.
func (o *Overlay[K, V]) Gone() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for k, c := range o.changed {
			if v, was := o.kept[k]; c.gone && was && !yield(k, v) {
				return
			}
		}
	}
}

// Kept tells what was committed at a key.
func (o *Overlay[K, V]) Kept(k K) (v V, found bool) {
	v, found = o.kept[k]
	return v, found
}

// AllKept visits what was committed.
func (o *Overlay[K, V]) AllKept() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for k, v := range o.kept {
			if !yield(k, v) {
				return
			}
		}
	}
}

// NumKept counts the keys that were committed.
func (o *Overlay[K, V]) NumKept() int { return len(o.kept) }

// publish makes what was changed what is committed.
func (o *Overlay[K, V]) publish() {
	for k, c := range o.changed {
		if c.gone {
			delete(o.kept, k)
		} else {
			o.kept[k] = c.value
		}
	}
	o.more = 0
}

// drop forgets what was changed. A transaction begins with it.
func (o *Overlay[K, V]) drop() {
	const many = 1000 // of which an emptied map keeps the room, and takes long to be emptied
	switch n := len(o.changed); {
	case n == 0:
	case n > many:
		o.changed = nil
	default:
		clear(o.changed)
	}
	o.more = 0
}

// Cell is an overlay of one value.
type Cell[T any] struct {
	kept, now T
}

// Get tells the value as the transaction sees it.
func (c *Cell[T]) Get() T { return c.now }

// Kept tells the value that was committed.
func (c *Cell[T]) Kept() T { return c.kept }

// Set sets the value.
func (c *Cell[T]) Set(v T) { c.now = v }

func (c *Cell[T]) publish() { c.kept = c.now }
func (c *Cell[T]) drop()    { c.now = c.kept }
