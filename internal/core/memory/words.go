package memory

import (
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/triage"
	"humblemule.example/internal/core/words"
)

// Words are those of the transaction's failures, by which failed jobs are found. They are written
// with it, and folded once there are many.
type Words struct {
	layered
	// late is how many failures are not folded.
	late Cell[int]
	// n and entries are of the transaction; last is what was noted last.
	n       int
	entries []byte
	last    noted
}

// noted is a failure whose words were noted. Failures come in swarms: another one of its block
// that says the same adds nothing.
type noted struct {
	block   int64
	cause   triage.Cause
	message string
}

// foldedAt is how many failures are folded at once.
const foldedAt = 2048

func (p *Words) load(*file) error {
	late, err := p.m.store.LateFailures()
	keepOne(&p.layered, &p.late, late)
	p.forget()
	return err
}

// Note notes the words of a job's failure.
func (p *Words) Note(id int64, c triage.Cause, message string) {
	this := noted{store.BlockOf(id), c, message}
	if p.n > 0 && this == p.last {
		return
	}
	p.last = this
	p.n++
	p.entries = store.AppendWords(p.entries, this.block, words.OfFailure(c.Type, message, c.Template))
}

func (p *Words) flush() error {
	if p.n == 0 {
		return nil
	}
	if err := p.m.store.PutLateWords(p.n, p.entries); err != nil {
		return err
	}
	late := p.late.Get() + p.n
	if late >= foldedAt {
		if err := p.m.store.FoldWords(); err != nil {
			return err
		}
		late = 0
	}
	p.late.Set(late)
	return nil
}

func (p *Words) drop() {
	p.layered.drop()
	p.forget()
}

func (p *Words) forget() { p.n, p.entries, p.last = 0, p.entries[:0], noted{} }
