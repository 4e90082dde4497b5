package order

import "container/heap"

// Heap keeps values by keys, and knows which of them comes first. A value must not change
// its place while it is in the heap: put another in its stead.
type Heap[K comparable, V any] struct {
	of    map[K]*entry[K, V]
	items entries[K, V]
}

type entry[K comparable, V any] struct {
	key   K
	value V
	index int
}

// entries implement heap.Interface.
type entries[K comparable, V any] struct {
	all    []*entry[K, V]
	before func(a, b V) bool
}

// NewHeap gives an empty heap of values, one of which comes before another as told.
func NewHeap[K comparable, V any](before func(a, b V) bool) *Heap[K, V] {
	return &Heap[K, V]{of: map[K]*entry[K, V]{}, items: entries[K, V]{before: before}}
}

// Len counts the values.
func (h *Heap[K, V]) Len() int { return len(h.items.all) }

// Put puts a value at a key, in the place of the one that is there.
func (h *Heap[K, V]) Put(k K, v V) {
	if e := h.of[k]; e != nil {
		e.value = v
		heap.Fix(&h.items, e.index)
		return
	}
	e := &entry[K, V]{key: k, value: v}
	h.of[k] = e
	heap.Push(&h.items, e)
}

// Remove takes the value of a key away, where there is one.
func (h *Heap[K, V]) Remove(k K) {
	if e := h.of[k]; e != nil {
		heap.Remove(&h.items, e.index)
		delete(h.of, k)
	}
}

// Get tells the value of a key.
func (h *Heap[K, V]) Get(k K) (v V, found bool) {
	if e := h.of[k]; e != nil {
		return e.value, true
	}
	return v, false
}

// First tells the value that comes first, and its key; none where the heap is empty.
func (h *Heap[K, V]) First() (k K, v V, found bool) {
	if len(h.items.all) == 0 {
		return k, v, false
	}
	e := h.items.all[0]
	return e.key, e.value, true
}

// While gives values for which is holds, at most so many, without taking them out. Where it
// holds for a value it must hold for all that come before. The order is not that of the heap.
func (h *Heap[K, V]) While(is func(V) bool, most int) (all []V) {
	h.each(is, func(e *entry[K, V]) bool {
		all = append(all, e.value)
		return len(all) < most
	})
	return all
}

// Keys is While for all keys whose values are so.
func (h *Heap[K, V]) Keys(is func(V) bool) (all []K) {
	h.each(is, func(e *entry[K, V]) bool {
		all = append(all, e.key)
		return true
	})
	return all
}

func (h *Heap[K, V]) each(is func(V) bool, visit func(*entry[K, V]) (more bool)) {
	next := []int{0} // an entry's parent in the heap comes no later than itself
	for len(next) > 0 {
		i := next[0]
		next = next[1:]
		if i < len(h.items.all) && is(h.items.all[i].value) {
			if !visit(h.items.all[i]) {
				return
			}
			next = append(next, 2*i+1, 2*i+2)
		}
	}
}

// Len is heap.Interface's, as are the others below.
func (e entries[K, V]) Len() int { return len(e.all) }

// Less tells which comes first.
func (e entries[K, V]) Less(i, j int) bool { return e.before(e.all[i].value, e.all[j].value) }

// Swap changes two places.
func (e entries[K, V]) Swap(i, j int) {
	e.all[i], e.all[j] = e.all[j], e.all[i]
	e.all[i].index, e.all[j].index = i, j
}

// Push adds an entry at the end.
func (e *entries[K, V]) Push(x any) {
	one := x.(*entry[K, V])
	one.index = len(e.all)
	e.all = append(e.all, one)
}

// Pop takes the entry at the end away.
func (e *entries[K, V]) Pop() any {
	last := len(e.all) - 1
	one := e.all[last]
	e.all[last] = nil
	e.all = e.all[:last]
	return one
}
