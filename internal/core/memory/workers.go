package memory

import (
	"iter"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
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
	// programs are what workers run, by their numbers.
	programs Overlay[int64, Program]
	// wants is what the transaction asks of workers.
	wants map[string]api.Want
}

// Program is what a worker runs: the version of its program, and the host.
type Program struct{ Version, Host string }

// WorkerRef is a worker: the id by which it names itself, and the number of its row.
type WorkerRef struct {
	UID    string
	Number int64
}

func (p *Workers) load(*file) error {
	keep(&p.layered, &p.numbers, map[string]int64{})
	keep(&p.layered, &p.seen, map[int64]job.Time{})
	keep(&p.layered, &p.programs, map[int64]Program{})
	p.wants = nil
	return nil
}

// Know gives the number of a worker, which is written where it is new. One that has not
// registered since the start of the service is what it was before.
func (p *Workers) Know(w api.Worker) (WorkerRef, error) {
	if n := p.numbers.At(w.ID); n != 0 {
		return WorkerRef{w.ID, n}, nil
	}
	if w.Version == "" && w.Host == "" {
		n, host, version, wanted, err := p.m.store.KnownWorker(w.ID)
		if err != nil {
			return WorkerRef{}, err
		}
		if n != 0 {
			p.numbers.Put(w.ID, n)
			p.programs.Put(n, Program{version, host})
			p.want(w.ID, wanted)
			return WorkerRef{w.ID, n}, nil
		}
	}
	return p.Write(w)
}

// Remember gives the number of a worker that has worked elsewhere, as of a time.
func (p *Workers) Remember(w api.Worker, at job.Time) (int64, error) {
	n, _, _, _, err := p.m.store.KnownWorker(w.ID)
	if err == nil && n == 0 {
		n, _, err = p.m.store.PutWorker(&w, at)
		p.programs.Put(n, Program{w.Version, w.Host})
	}
	return n, err
}

// Write stores who a worker is, and marks a deployment where it brings another version.
func (p *Workers) Write(w api.Worker) (WorkerRef, error) {
	if w.Version != "" {
		deploys, err := p.m.store.Deploys(&w)
		if err == nil && deploys {
			_, err = p.m.store.AddMark(store.Mark{At: p.m.now, Kind: api.MarkDeploy, Text: "version " + w.Version, Principal: w.Host})
		}
		if err != nil {
			return WorkerRef{}, err
		}
	}
	n, wanted, err := p.m.store.PutWorker(&w, p.m.now)
	if err != nil {
		return WorkerRef{}, err
	}
	p.numbers.Put(w.ID, n)
	p.programs.Put(n, Program{w.Version, w.Host})
	p.want(w.ID, wanted)
	return WorkerRef{w.ID, n}, nil
}

// Program tells what a worker runs, or has run.
func (p *Workers) Program(number int64) (Program, error) {
	if known, is := p.programs.Get(number); is || number == 0 {
		return known, nil
	}
	w, err := p.m.store.WorkerByNumber(number)
	is := Program{w.Version, w.Host}
	if err == nil {
		p.programs.Put(number, is)
	}
	return is, err
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
	p.programs.Delete(number)
	return p.m.store.DropWorker(number)
}

// publish tells presence what is wanted, and workers what of theirs is cancelled.
func (p *Workers) publish() {
	if len(p.numbers.kept) > mostWorkers {
		clear(p.numbers.kept)
	}
	if len(p.programs.kept) > mostWorkers {
		clear(p.programs.kept)
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
