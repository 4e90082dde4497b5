// Package words breaks errors into words, so that a failure is found by those that it holds. A
// word is a run of letters and digits, whatever their case; in scripts that are written without
// spaces each character is one. A word is kept as a hash of 32 bits:
//
//	set := words.Pack(words.Of("bank quay keeps no account of heron"))
//	set.Has(words.Hash("heron")) // true
package words

import (
	"encoding/binary"
	"iter"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Of gives the hashes of the words of texts, each once, in ascending order.
func Of(texts ...string) []uint32 {
	var all []uint32
	for _, text := range texts {
		for word := range In(text) {
			all = append(all, Hash(word))
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// most is how much of a message, and of the line that says most, is found by its words, in bytes.
const most = 500

// OfFailure gives the words that a failure is found by: of its type, of the first 500 bytes of its
// message, of the line of it that says most, and of more texts.
func OfFailure(errorType, message string, more ...string) []uint32 {
	head, line := cut(message), cut(Telling(message))
	if !strings.Contains(head, line) {
		more = append(more, line)
	}
	return Of(append(more, errorType, head)...)
}

// Telling is the line of a message that says most: the last one of a Python traceback, else the
// first.
func Telling(message string) string {
	message = strings.TrimSpace(message)
	if strings.HasPrefix(message, "Traceback (") {
		return message[strings.LastIndexByte(message, '\n')+1:]
	}
	first, _, _ := strings.Cut(message, "\n")
	return first
}

func cut(text string) string {
	if len(text) <= most {
		return text
	}
	end := most
	for end > 0 && !utf8.RuneStart(text[end]) {
		end--
	}
	return text[:end]
}

// In visits the words of a text as they are written.
func In(text string) iter.Seq[string] {
	return func(yield func(string) bool) {
		begin := -1
		for i, r := range text {
			part, alone := partOf(r)
			if begin >= 0 && (!part || alone) {
				if !yield(text[begin:i]) {
					return
				}
				begin = -1
			}
			switch {
			case alone:
				if !yield(text[i : i+utf8.RuneLen(r)]) {
					return
				}
			case part && begin < 0:
				begin = i
			}
		}
		if begin >= 0 {
			yield(text[begin:])
		}
	}
}

// partOf tells whether a character is part of a word, and whether it is a word alone.
func partOf(r rune) (part, alone bool) {
	if r < utf8.RuneSelf {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9', false
	}
	if unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Thai) {
		return true, true
	}
	return r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r)), false
}

// Hash is FNV-1a, of 32 bits, over the lower case of a word.
func Hash(word string) uint32 {
	const offset, prime = 2166136261, 16777619
	h := uint32(offset)
	for _, r := range word {
		if r < utf8.RuneSelf {
			if r >= 'A' && r <= 'Z' {
				r += 'a' - 'A'
			}
			h = (h ^ uint32(r)) * prime
			continue
		}
		for b := uint32(unicode.ToLower(r)); b > 0; b >>= 8 {
			h = (h ^ b&0xff) * prime
		}
	}
	return h
}

// width is how many bytes a word takes in a set.
const width = 4

// Set holds hashes in ascending order, four bytes each, the highest byte first.
type Set []byte

// Pack makes a set of hashes in ascending order.
func Pack(all []uint32) Set {
	s := make(Set, 0, width*len(all))
	for _, h := range all {
		s = binary.BigEndian.AppendUint32(s, h)
	}
	return s
}

// Len is how many words it holds.
func (s Set) Len() int { return len(s) / width }

func (s Set) at(i int) uint32 { return binary.BigEndian.Uint32(s[width*i:]) }

// All visits the hashes.
func (s Set) All() iter.Seq[uint32] {
	return func(yield func(uint32) bool) {
		for i := range s.Len() {
			if !yield(s.at(i)) {
				return
			}
		}
	}
}

// Has tells whether it holds a word.
func (s Set) Has(h uint32) bool {
	lo, hi := 0, s.Len()
	for lo < hi {
		if mid := (lo + hi) / 2; s.at(mid) < h {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo < s.Len() && s.at(lo) == h
}

// Query is what is looked for: of each group at least one word.
type Query [][]uint32

// Most is how many groups a query has at most.
const Most = 32

// Found tells which groups a set has a word of, a bit for each.
func (q Query) Found(has func(uint32) bool) (found uint32) {
	for i, group := range q {
		if slices.ContainsFunc(group, has) {
			found |= 1 << i
		}
	}
	return found
}

// Whole is what Found gives where nothing is missing.
func (q Query) Whole() uint32 { return uint32(1<<len(q) - 1) }

// In tells whether hashes in ascending order hold a word of each group.
func (q Query) In(all []uint32) bool {
	return q.Found(func(h uint32) bool {
		_, found := slices.BinarySearch(all, h)
		return found
	}) == q.Whole()
}
