package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"maps"
	"math"
	"slices"

	"humblemule.example/internal/core/packed"
	"humblemule.example/internal/core/words"
)

// The words of failures are kept by blocks of jobs: which words the failures of any job of a block
// hold. A commit appends the words of its failures as one row; many of these are folded at once
// into a part of each block, and the parts of a block into one. So a failure costs little, a
// search reads a few bytes for each job that has failed, and jobs are found in the order of their
// ids.

// blockBits is the logarithm of how many ids a block has.
const blockBits = 12

// mostParts is how many parts a block has at most.
const mostParts = 8

// BlockOf gives the block of a job, and JobsOf the first and the last id of a block.
func BlockOf(id int64) int64 { return id >> blockBits }

// JobsOf goes with [BlockOf].
func JobsOf(block int64) (first, last int64) {
	return block << blockBits, (block+1)<<blockBits - 1
}

// AppendWords packs the words of a failure of a block behind others.
func AppendWords(b []byte, block int64, all []uint32) []byte {
	return packed.AppendBytes(binary.AppendUvarint(b, uint64(block)), []byte(words.Pack(all)))
}

// lateWords are words that are not folded, by blocks.
type lateWords map[int64]map[uint32]bool

func (l lateWords) add(entries []byte) error {
	r := packed.Read(entries)
	for r.More() {
		block, set := r.Int(), words.Set(r.Bytes())
		if l[block] == nil {
			l[block] = map[uint32]bool{}
		}
		for h := range set.All() {
			l[block][h] = true
		}
	}
	return r.Err()
}

func readLate(r *sql.Rows, err error) (lateWords, error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	late := lateWords{}
	for r.Next() {
		var entries sql.RawBytes
		if err := r.Scan(&entries); err != nil {
			return nil, err
		}
		if err := late.add(entries); err != nil {
			return nil, err
		}
	}
	return late, r.Err()
}

var (
	sqlPutLateWords  = statement(`INSERT INTO late_words (n, entries) VALUES (?, ?)`)
	sqlLateWords     = statement(`SELECT entries FROM late_words WHERE id > 0`)
	sqlDropLateWords = statement(`DELETE FROM late_words`)
	sqlPartsOf       = statement(`SELECT part, words FROM failed_words WHERE block = ? ORDER BY part`)
	sqlDropParts     = statement(`DELETE FROM failed_words WHERE block = ?`)
	sqlPutPart       = statement(`INSERT INTO failed_words (block, part, words) VALUES (?, ?, ?)`)
)

// PutLateWords appends the packed words of n failures.
func (s *Store) PutLateWords(n int, entries []byte) error { return s.exec(sqlPutLateWords, n, entries) }

// LateFailures counts the failures whose words are not folded. It reads all of their rows.
func (s *Store) LateFailures() (n int, err error) {
	err = each(s, "SELECT coalesce(sum(n), 0) FROM late_words", func(r *sql.Rows) error { return r.Scan(&n) })
	return n, err
}

// FoldWords puts words that were appended into their blocks.
func (s *Store) FoldWords() error {
	late, err := readLate(s.query(sqlLateWords))
	if err != nil {
		return err
	}
	for block, set := range late {
		if err := s.foldInto(block, set); err != nil {
			return err
		}
	}
	return s.exec(sqlDropLateWords)
}

// foldInto adds a part to a block, and makes one of all its parts where there are many.
func (s *Store) foldInto(block int64, set map[uint32]bool) error {
	next, parts, err := s.partsOf(block)
	if err != nil {
		return err
	}
	if parts != nil {
		for _, part := range parts {
			for h := range part.All() {
				set[h] = true
			}
		}
		if err := s.exec(sqlDropParts, block); err != nil {
			return err
		}
		next = 0
	}
	return s.exec(sqlPutPart, block, next, []byte(packWords(set)))
}

func packWords(all map[uint32]bool) words.Set { return words.Pack(slices.Sorted(maps.Keys(all))) }

// partsOf tells which part of a block is next and, where it has as many as it may, all of them.
func (s *Store) partsOf(block int64) (next int64, parts []words.Set, err error) {
	r, err := s.query(sqlPartsOf, block)
	if err != nil {
		return 0, nil, err
	}
	defer r.Close()
	for r.Next() {
		var part words.Set
		if err := r.Scan(&next, (*[]byte)(&part)); err != nil {
			return 0, nil, err
		}
		parts = append(parts, part)
		next++
	}
	if len(parts)+1 < mostParts {
		parts = nil
	}
	return next, parts, r.Err()
}

var (
	sqlNextBlock  = statement(`SELECT block FROM failed_words WHERE block >= ? ORDER BY block LIMIT 1`)
	sqlAnyAttempt = statement(`SELECT job FROM attempts WHERE job >= ? AND job <= ? LIMIT 1`)
)

// DropWords looks at so many blocks from one on, and forgets those of whose jobs no attempt is
// kept. It answers where to go on; 0 at the end.
func (s *Store) DropWords(from int64, most int) (next int64, err error) {
	for range most {
		found, err := ids(s.query(sqlNextBlock, from))
		if err != nil || len(found) == 0 {
			return 0, err
		}
		first, last := JobsOf(found[0])
		kept, err := ids(s.query(sqlAnyAttempt, first, last))
		if err == nil && len(kept) == 0 {
			err = s.exec(sqlDropParts, found[0])
		}
		if err != nil {
			return 0, err
		}
		from = found[0] + 1
	}
	return from, nil
}

// BlocksWith finds blocks of jobs whose failures hold a word of each group, beyond a block, in
// order. It looks at no more than so many rows; last is the last block it has looked at, and
// looked how many rows: fewer than asked for at the end.
func (s *Store) BlocksWith(ctx context.Context, q words.Query, beyondBlock int64, newest bool, most int) (found []int64, last int64, looked int, err error) {
	late, err := readLate(s.ask(ctx, "SELECT entries FROM late_words WHERE id > 0"))
	if err != nil {
		return nil, 0, 0, err
	}
	than, dir := beyond(newest)
	r, err := s.ask(ctx, "SELECT block, words FROM failed_words WHERE block "+than+" ? ORDER BY block "+dir+", part LIMIT ?", beyondBlock, most)
	if err != nil {
		return nil, 0, 0, err
	}
	defer r.Close()
	has := map[int64]uint32{}
	for r.Next() {
		var block int64
		var part sql.RawBytes
		if err := r.Scan(&block, &part); err != nil {
			return nil, 0, 0, err
		}
		if looked++; looked == most { // other parts of the block may be beyond
			delete(has, block)
			last = block - 1
			if newest {
				last = block + 1
			}
			break
		}
		has[block] |= q.Found(words.Set(part).Has)
		last = block
	}
	if err := r.Err(); err != nil {
		return nil, 0, 0, err
	}
	if looked < most {
		last = math.MaxInt64
		if newest {
			last = -1
		}
	}
	within := func(block int64) bool {
		if newest {
			return block < beyondBlock && block >= last
		}
		return block > beyondBlock && block <= last
	}
	for block, set := range late {
		if within(block) {
			has[block] |= q.Found(func(h uint32) bool { return set[h] })
		}
	}
	for block, groups := range has {
		if groups == q.Whole() {
			found = append(found, block)
		}
	}
	slices.SortFunc(found, func(a, b int64) int {
		if newest {
			a, b = b, a
		}
		return cmp.Compare(a, b)
	})
	return found, last, looked, nil
}

// Failed is a failure of a job that is kept, and the cause that the job has now.
type Failed struct {
	Job, Cause    int64
	Type, Message string
}

const failed = `SELECT a.job, coalesce(j.cause, 0), a.error_type, a.error_message FROM attempts a LEFT JOIN jobs j ON j.id = a.job WHERE (a.error_type <> '' OR a.error_message <> '')`

// FailedWithin visits the failures of jobs beyond one and up to another, in order, until told to
// stop.
func (s *Store) FailedWithin(ctx context.Context, after, upTo int64, newest bool, visit func(*Failed) bool) error {
	than, dir := beyond(newest)
	to := "<="
	if newest {
		to = ">="
	}
	r, err := s.ask(ctx, failed+" AND a.job "+than+" ? AND a.job "+to+" ? ORDER BY a.job "+dir, after, upTo)
	if err != nil {
		return err
	}
	defer r.Close()
	for r.Next() {
		var f Failed
		if err := r.Scan(&f.Job, &f.Cause, &f.Type, &f.Message); err != nil {
			return err
		}
		if !visit(&f) {
			return nil
		}
	}
	return r.Err()
}

// FailedOf visits the failures of jobs.
func (s *Store) FailedOf(ctx context.Context, ids []int64, visit func(*Failed)) error {
	return s.eachOf(ctx, failed+" AND a.job IN (?)", ids, func(r *sql.Rows) error {
		var f Failed
		err := r.Scan(&f.Job, &f.Cause, &f.Type, &f.Message)
		visit(&f)
		return err
	})
}
