package memory

import (
	"iter"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Workers are the rows of worker processes, what is wanted of them, and which are there.
type Workers struct {
	WorkersView
	// Presence is told by calls, outside of transactions; it has a lock of its own.
	Presence Presence
}

// WorkersView is what of them can be seen, and not changed.
type WorkersView struct {
	layered
	numbers Overlay[string, int64]
	// seen is when a worker was seen last, as it was written, by its number.
	seen Overlay[int64, job.Time]
	// wants is what the transaction asks of workers.
	wants map[string]api.Want
}

// WorkerRef is a worker: the id by which it names itself, and the number of its row.
type WorkerRef struct {
	UID    string
	Number int64
}

func (p *Workers) load(*file) error {
	keep(&p.layered, &p.numbers, map[string]int64{})
	keep(&p.layered, &p.seen, map[int64]job.Time{})
	p.wants = nil
	return nil
}

// Know gives the number of a worker, which is written where it is new.
func (p *Workers) Know(w api.Worker) (WorkerRef, error) {
	if n := p.numbers.At(w.ID); n != 0 {
		return WorkerRef{w.ID, n}, nil
	}
	return p.Write(w)
}

// Write stores who a worker is.
func (p *Workers) Write(w api.Worker) (WorkerRef, error) {
	n, wanted, err := p.m.store.PutWorker(&w, p.m.now)
	if err != nil {
		return WorkerRef{}, err
	}
	p.numbers.Put(w.ID, n)
	p.want(w.ID, wanted)
	return WorkerRef{w.ID, n}, nil
}

// Takes tells whether a worker takes jobs. What was asked of one that has not called since
// the start of the service stands in the file only.
func (p *WorkersView) Takes(uid string) (bool, error) {
	_, takes := p.m.Workers.Presence.Wants(uid)
	want, known := p.wants[uid]
	if !known && p.numbers.At(uid) == 0 {
		var err error
		if want, err = p.m.store.WantedOf(uid); err != nil {
			return false, err
		}
	}
	return takes && (want == "" || want == api.WantRun), nil
}

// Ask sets what is wanted of a worker; empty means to run.
func (p *Workers) Ask(w WorkerRef, want api.Want) error {
	p.want(w.UID, want)
	return p.m.store.PutWanted(w.Number, want)
}

func (p *Workers) want(uid string, want api.Want) {
	if p.wants == nil {
		p.wants = map[string]api.Want{}
	}
	p.wants[uid] = want
}

// Asked visits the workers of which the transaction wants something.
func (p *WorkersView) Asked() iter.Seq[string] {
	return func(yield func(string) bool) {
		for uid := range p.wants {
			if !yield(uid) {
				return
			}
		}
	}
}

// Numbers visits the workers that are known, with their numbers.
func (p *WorkersView) Numbers() iter.Seq2[string, int64] { return p.numbers.All() }

// SeenAt is when a worker was seen last, as it was written; NoteSeen writes it.
func (p *WorkersView) SeenAt(number int64) job.Time { return p.seen.At(number) }

// NoteSeen goes with [Workers.SeenAt].
func (p *Workers) NoteSeen(number int64, at job.Time) error {
	p.seen.Put(number, at)
	return p.m.store.SawWorker(number, at)
}

// Forget removes who a worker was.
func (p *Workers) Forget(uid string, number int64) error {
	p.numbers.Delete(uid)
	p.seen.Delete(number)
	p.m.Causes.versions.Delete(number)
	return p.m.store.DropWorker(number)
}

// publish tells presence what is wanted, and workers what of theirs is cancelled.
func (p *Workers) publish() {
	if len(p.numbers.kept) > mostWorkers {
		clear(p.numbers.kept)
	}
	p.layered.publish()
	for uid, want := range p.wants {
		p.Presence.ask(uid, want)
	}
	for _, l := range p.m.News.Asked {
		p.Presence.tellCancelled(l.Worker, l.Token())
	}
}

func (p *Workers) drop() {
	p.layered.drop()
	p.wants = nil
}
