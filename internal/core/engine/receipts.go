package engine

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// Receipts of calls with an Idempotency-Key are kept so long, in time in which the file
// is served, and at most so many of the last ones.
const (
	receiptsKept = 24 * time.Hour
	mostReceipts = 1_000_000
	// ReceiptsKept is how long receipts are kept at most.
	ReceiptsKept = job.Duration(receiptsKept)
)

// callID identifies a call: who made it, its path and key; and its body.
type callID struct {
	call [16]byte
	body [8]byte
	// drawnAt is when the key was drawn, where it tells; see keyTime.
	drawnAt job.Time
}

func (c callID) none() bool { return c.call == [16]byte{} }

func identify(c Call) (id callID) {
	if c.Key == "" {
		return id
	}
	call := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s", c.Principal, c.Path, c.Key))
	body := sha256.Sum256(c.Body)
	copy(id.call[:], call[:])
	copy(id.body[:], body[:])
	id.drawnAt = keyTime(c.Key)
	return id
}

// keyTime reads when a key was drawn that is a UUID of version 7 (RFC 9562), whose first
// 48 bits are milliseconds since 1970; 0 for any other key.
func keyTime(key string) job.Time {
	raw, err := hex.DecodeString(strings.ReplaceAll(key, "-", ""))
	if len(key) != 36 || err != nil || len(raw) != 16 || raw[6]>>4 != 7 {
		return 0
	}
	return job.Time(binary.BigEndian.Uint64(append([]byte{0, 0}, raw[:6]...)))
}

// receipt is what a call has brought: ids of jobs, of one call's own shape.
type receipt struct {
	id  callID
	ids []int64
}

// receipts are those that are kept. They belong to the committer.
type receipts struct {
	of   map[[16]byte]*receipt
	rows []receiptRow // oldest first
	kept int
	// reach is when the last receipt was written that is no longer kept; 0 while all are.
	reach job.Time
	// written is the row of the transaction under way.
	written receiptRow
}

// receiptRow is what one commit has stored, at a time and when the file was served so
// long.
type receiptRow struct {
	id     int64
	at     job.Time
	served int64
	calls  [][16]byte
}

func (rs *receipts) load(s *store.Store) error {
	*rs = receipts{of: map[[16]byte]*receipt{}}
	all, reach, err := s.Receipts()
	if err != nil {
		return err
	}
	rs.reach = reach
	for _, stored := range all {
		unpacked, err := unpackReceipts(stored.Entries)
		if err != nil {
			return fmt.Errorf("receipts %d: %w", stored.ID, err)
		}
		rs.keep(receiptRow{id: stored.ID, at: stored.At, served: stored.Served}, unpacked)
	}
	return nil
}

func (rs *receipts) keep(row receiptRow, all []receipt) {
	for i := range all {
		rs.of[all[i].id.call] = &all[i]
		row.calls = append(row.calls, all[i].id.call)
	}
	rs.rows = append(rs.rows, row)
	rs.kept += len(all)
}

// replayed finds what the same call has brought before; nil where it is new. The
// same key with another body is refused, and so is one that was drawn before the oldest
// receipt that is kept: whether it is new is not known.
func (tx *txn) replayed(id callID) (*receipt, error) {
	if id.none() {
		return nil, nil
	}
	r := tx.e.receipts.of[id.call]
	for i := range tx.receipts {
		if tx.receipts[i].id.call == id.call {
			r = &tx.receipts[i]
		}
	}
	wrong := func(message string) error {
		return job.Wrong("nothing was done", []job.FieldError{{Field: "Idempotency-Key", Message: message}})
	}
	switch {
	case r == nil && id.drawnAt != 0 && id.drawnAt <= tx.e.receipts.reach:
		return nil, wrong(fmt.Sprintf("was drawn at %s, and receipts reach back to %s: whether the call has taken effect before is not known; look, and draw a new key if it has not", id.drawnAt, tx.e.receipts.reach))
	case r != nil && r.id.body != id.body:
		return nil, wrong("was used for another body before; draw a new key for every new call")
	}
	return r, nil
}

// note keeps what a call has brought.
func (tx *txn) note(id callID, ids ...int64) {
	if !id.none() {
		tx.receipts = append(tx.receipts, receipt{id: id, ids: ids})
	}
}

// write stores the transaction's receipts in one row and removes what is too
// old.
func (rs *receipts) write(tx *txn) error {
	rs.written = receiptRow{}
	if len(tx.receipts) == 0 {
		return nil
	}
	served := tx.e.served()
	row, err := tx.e.store.InsertReceipts(tx.now, served, packReceipts(tx.receipts))
	if err != nil {
		return err
	}
	rs.written = receiptRow{id: row, at: tx.now, served: served}
	if old := rs.old(served); old > 0 {
		return tx.e.store.DeleteReceipts(rs.rows[old-1].id, rs.rows[old-1].at)
	}
	return nil
}

// old tells how many of the oldest rows are no longer kept.
func (rs *receipts) old(served int64) (n int) {
	kept := rs.kept
	for n < len(rs.rows) && (rs.rows[n].served < served-receiptsKept.Milliseconds() || kept > mostReceipts) {
		kept -= len(rs.rows[n].calls)
		n++
	}
	return n
}

// publish keeps the transaction's receipts and forgets those it has removed.
func (rs *receipts) publish(tx *txn) {
	if rs.written.id == 0 {
		return
	}
	old := rs.old(rs.written.served)
	for _, row := range rs.rows[:old] {
		for _, call := range row.calls {
			delete(rs.of, call)
		}
		rs.kept -= len(row.calls)
		rs.reach = max(rs.reach, row.at)
	}
	rs.rows = rs.rows[old:]
	rs.keep(rs.written, tx.receipts)
	rs.written = receiptRow{}
}

// packReceipts writes each receipt as its two hashes, the number of its ids and
// the ids, as varints.
func packReceipts(all []receipt) []byte {
	b := make([]byte, 0, 32*len(all))
	for _, r := range all {
		b = append(b, r.id.call[:]...)
		b = append(b, r.id.body[:]...)
		b = binary.AppendUvarint(b, uint64(len(r.ids)))
		for _, id := range r.ids {
			b = binary.AppendUvarint(b, uint64(id))
		}
	}
	return b
}

func unpackReceipts(b []byte) (all []receipt, err error) {
	for len(b) > 0 {
		var r receipt
		if len(b) < len(r.id.call)+len(r.id.body) {
			return nil, fmt.Errorf("are cut short")
		}
		b = b[copy(r.id.call[:], b):]
		b = b[copy(r.id.body[:], b):]
		n, size := binary.Uvarint(b)
		for ; size > 0 && n > 0; n-- {
			b = b[size:]
			var id uint64
			id, size = binary.Uvarint(b)
			r.ids = append(r.ids, int64(id))
		}
		if size <= 0 {
			return nil, fmt.Errorf("are cut short")
		}
		b = b[size:]
		all = append(all, r)
	}
	return all, nil
}
