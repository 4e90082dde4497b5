package memory

import (
	"iter"
	"time"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Hosts are those that give no answer to calls, by the hashes of their names. Jobs that call one are held,
// but for one at a time by which it is tried.
type Hosts struct {
	HostsView
	// probes are the jobs by which hosts are tried, and when it is looked whether one still does; walks
	// are how far the jobs of hosts that have answered were let go. A restart begins both anew.
	probes map[int64]Probe
	walks  map[int64]int64
}

// Probe is a job by which a host is tried.
type Probe struct {
	Job    int64
	LookAt time.Time
}

// ProbeLooked is how often it is looked whether the job by which a host is tried still can be.
const ProbeLooked = 30 * time.Second

// HostsView is what of them can be seen, and not changed.
type HostsView struct {
	layered
	silent Overlay[int64, *store.SilentHost]
}

func (p *Hosts) load(*file) error {
	keep(&p.layered, &p.silent, map[int64]*store.SilentHost{})
	p.probes, p.walks = map[int64]Probe{}, map[int64]int64{}
	all, err := p.m.store.SilentHosts()
	for i := range all {
		p.silent.kept[all[i].Host] = &all[i]
	}
	return err
}

// Holds tells whether a job is held since the host that it calls gives no answer.
func (p *Hosts) Holds(r *store.Row) bool {
	if r.Host == 0 {
		return false
	}
	h := p.silent.At(r.Host)
	return h != nil && h.ProbeAt != 0 && p.probes[r.Host].Job != r.ID
}

// Get finds a host that gives no answer; nil where it does.
func (p *HostsView) Get(host int64) *store.SilentHost { return p.silent.At(host) }

// Any tells whether there are any.
func (p *HostsView) Any() bool { return p.silent.Len() > 0 }

// All visits them.
func (p *HostsView) All() iter.Seq2[int64, *store.SilentHost] { return p.silent.All() }

// AllKept visits them as they were committed, and Kept finds one.
func (p *HostsView) AllKept() iter.Seq2[int64, *store.SilentHost] { return p.silent.AllKept() }

// Kept goes with [HostsView.AllKept].
func (p *HostsView) Kept(host int64) *store.SilentHost {
	h, _ := p.silent.Kept(host)
	return h
}

// Put keeps a host that gives no answer, or has just given one.
func (p *Hosts) Put(h store.SilentHost) error {
	delete(p.probes, h.Host)
	delete(p.walks, h.Host)
	p.silent.Put(h.Host, &h)
	return p.m.store.PutSilentHost(&h)
}

// Drop forgets a host: none of its jobs is held for it any more.
func (p *Hosts) Drop(host int64) error {
	delete(p.probes, host)
	delete(p.walks, host)
	p.silent.Delete(host)
	return p.m.store.DropSilentHost(host)
}

// ProbeOf is the job by which a host is tried.
func (p *Hosts) ProbeOf(host int64) Probe { return p.probes[host] }

// SetProbe has a host be tried by a job, 0 for none, and looked after at a time.
func (p *Hosts) SetProbe(host, job int64, lookAt time.Time) { p.probes[host] = Probe{job, lookAt} }

// Walked is the last job of a host that was let go, and SetWalked notes it.
func (p *Hosts) Walked(host int64) int64 { return p.walks[host] }

// SetWalked goes with [Hosts.Walked].
func (p *Hosts) SetWalked(host, job int64) { p.walks[host] = job }

// NextProbe is the first time at which a host is to be tried, 0 for none; frees tells that one has answered,
// whose jobs are not all let go.
func (p *Hosts) NextProbe() (at job.Time, frees bool) {
	for host, h := range p.silent.All() {
		switch {
		case h.ProbeAt == 0:
			frees = true
		case p.probes[host].Job == 0 && (at == 0 || h.ProbeAt < at):
			at = h.ProbeAt
		}
	}
	return at, frees
}

// NextLook is when it is looked first whether a probe still goes on; zero for never.
func (p *Hosts) NextLook() (at time.Time) {
	for _, probe := range p.probes {
		if probe.Job != 0 && (at.IsZero() || probe.LookAt.Before(at)) {
			at = probe.LookAt
		}
	}
	return at
}
