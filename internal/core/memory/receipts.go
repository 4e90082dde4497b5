package memory

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"humblemule.example/internal/core/packed"
	"humblemule.example/job"
)

// Receipts of calls with an Idempotency-Key are kept so long, in time in which the file
// is served, and at most so many of the last ones.
const (
	receiptsKept = 24 * time.Hour
	mostReceipts = 1_000_000
	// ReceiptsKept is how long receipts are kept at most.
	ReceiptsKept = job.Duration(receiptsKept)
)

// CallID identifies a call: who made it, its path and key; and its body.
type CallID struct {
	call [16]byte
	body [8]byte
	// drawnAt is when the key was drawn, where it tells; see keyTime.
	drawnAt job.Time
}

// None tells whether the call can not be told from others.
func (c CallID) None() bool { return c.call == [16]byte{} }

// Identify gives the identity of a call by its principal, path, Idempotency-Key and the
// SHA-256 of its body.
func Identify(principal, path, key string, body *[sha256.Size]byte) (id CallID) {
	call := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s", principal, path, key))
	copy(id.call[:], call[:])
	copy(id.body[:], body[:])
	id.drawnAt = keyTime(key)
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

// Receipt is what a call has brought.
type Receipt struct {
	id CallID
	// IDs are of jobs, in one call's own shape.
	IDs []int64
}

// Receipts are what calls with an Idempotency-Key have brought, so that a call which is made
// again has the same answer and does nothing twice.
type Receipts struct{ ReceiptsView }

// ReceiptsView is what of them can be seen, and not changed.
type ReceiptsView struct {
	layered
	of   map[[16]byte]*Receipt
	rows []receiptRow // oldest first
	kept int
	// reach is when the last receipt was written that is no longer kept; 0 while all are.
	reach job.Time
	// noted are those of the transaction, and written its row.
	noted   []Receipt
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

func (p *Receipts) load(*file) error {
	p.of, p.rows, p.kept = map[[16]byte]*Receipt{}, nil, 0
	p.drop()
	all, reach, err := p.m.store.Receipts()
	if err != nil {
		return err
	}
	p.reach = reach
	for _, stored := range all {
		unpacked, err := unpackReceipts(stored.Entries)
		if err != nil {
			return fmt.Errorf("receipts %d: %w", stored.ID, err)
		}
		p.keep(receiptRow{id: stored.ID, at: stored.At, served: stored.Served}, unpacked)
	}
	return nil
}

func (p *Receipts) keep(row receiptRow, all []Receipt) {
	for i := range all {
		p.of[all[i].id.call] = &all[i]
		row.calls = append(row.calls, all[i].id.call)
	}
	p.rows = append(p.rows, row)
	p.kept += len(all)
}

// Find finds what the same call has brought before; nil where it is new. The same key with
// another body is refused, and so is one that was drawn before the oldest receipt that is
// kept: whether it is new is not known.
func (p *ReceiptsView) Find(id CallID) (*Receipt, error) {
	if id.None() {
		return nil, nil
	}
	r := p.of[id.call]
	for i := range p.noted {
		if p.noted[i].id.call == id.call {
			r = &p.noted[i]
		}
	}
	wrong := func(message string) error {
		return job.Wrong("nothing was done", []job.FieldError{{Field: "Idempotency-Key", Message: message}})
	}
	switch {
	case r == nil && id.drawnAt != 0 && id.drawnAt <= p.reach:
		return nil, wrong(fmt.Sprintf("was generated at %s, and the service remembers calls back to %s: whether the call has taken effect before is not known; check, and generate a new key if it has not", id.drawnAt, p.reach))
	case r != nil && r.id.body != id.body:
		return nil, wrong("was already used for another body; generate a new key for every new call")
	}
	return r, nil
}

// Note keeps what a call has brought.
func (p *Receipts) Note(id CallID, ids ...int64) {
	if !id.None() {
		p.noted = append(p.noted, Receipt{id, ids})
	}
}

// flush stores the transaction's receipts in one row and removes what is too old.
func (p *Receipts) flush() error {
	if len(p.noted) == 0 {
		return nil
	}
	served := p.m.clock.Served()
	row, err := p.m.store.InsertReceipts(p.m.now, served, packReceipts(p.noted))
	if err != nil {
		return err
	}
	p.written = receiptRow{id: row, at: p.m.now, served: served}
	if old := p.old(served); old > 0 {
		return p.m.store.DeleteReceipts(p.rows[old-1].id, p.rows[old-1].at)
	}
	return nil
}

// old tells how many of the oldest rows are no longer kept.
func (p *Receipts) old(served int64) (n int) {
	kept := p.kept
	for n < len(p.rows) && (p.rows[n].served < served-receiptsKept.Milliseconds() || kept > mostReceipts) {
		kept -= len(p.rows[n].calls)
		n++
	}
	return n
}

func (p *Receipts) publish() {
	if p.written.id == 0 {
		return
	}
	old := p.old(p.written.served)
	for _, row := range p.rows[:old] {
		for _, call := range row.calls {
			delete(p.of, call)
		}
		p.kept -= len(row.calls)
		p.reach = max(p.reach, row.at)
	}
	p.rows = p.rows[old:]
	p.keep(p.written, p.noted)
}

func (p *Receipts) drop() { p.noted, p.written = nil, receiptRow{} }

// NumRows counts the rows of receipts that are kept.
func (p *ReceiptsView) NumRows() int { return len(p.rows) }

// packReceipts writes each receipt as its two hashes, the number of its ids and
// the ids, as varints.
func packReceipts(all []Receipt) []byte {
	b := make([]byte, 0, 32*len(all))
	for _, r := range all {
		b = append(b, r.id.call[:]...)
		b = append(b, r.id.body[:]...)
		b = binary.AppendUvarint(b, uint64(len(r.IDs)))
		for _, id := range r.IDs {
			b = binary.AppendUvarint(b, uint64(id))
		}
	}
	return b
}

func unpackReceipts(b []byte) (all []Receipt, err error) {
	for r := packed.Read(b); r.More(); {
		var one Receipt
		copy(one.id.call[:], r.Take(len(one.id.call)))
		copy(one.id.body[:], r.Take(len(one.id.body)))
		for n := r.Unsigned(); n > 0 && r.Err() == nil; n-- {
			one.IDs = append(one.IDs, r.Int())
		}
		if r.Err() != nil {
			return nil, r.Err()
		}
		all = append(all, one)
	}
	return all, nil
}
