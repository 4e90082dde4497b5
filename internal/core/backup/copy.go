package backup

import (
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
)

// making is a backup under way.
type making struct {
	// at is what its name tells.
	at time.Time
	// bytesPerSecond is how fast it is copied at most.
	bytesPerSecond int64
	// mu guards told.
	mu   sync.Mutex
	told api.Backup
	// stopped tells that it is not wanted any more.
	stopped atomic.Bool
	// copied gets the end of the copying.
	copied chan error

	// copy is the copy, bytes how many the next step copies, and next when that is. They are the
	// committer's own until the copying has ended.
	copy  *store.Copy
	bytes int64
	next  time.Time
	// opened is the copy for whoever writes it to the disk meanwhile.
	opened atomic.Pointer[store.Copy]
}

// tell is how it stands.
func (m *making) tell() api.Backup {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.told
}

func (m *making) set(change func(*api.Backup)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	change(&m.told)
}

// A step takes about so long, while whoever wants to write waits; it copies so many bytes at
// first, and at most. What was copied is written to the disk so often.
const (
	stepFor    = 500 * time.Microsecond
	firstBytes = 64 << 10
	mostBytes  = 1 << 20
	syncEvery  = 5 * time.Millisecond
)

var (
	errStopped = errors.New("the service was stopped meanwhile")
	errDeleted = errors.New("it was deleted meanwhile")
	errFaulty  = errors.New("the data file could not be written meanwhile")
)

// Next is that of [commit.Between].
func (k *Keeper) Next() time.Duration {
	m := k.copying.Load()
	if m == nil {
		return commit.Never
	}
	return time.Until(m.next)
}

// Do copies some pages more.
func (k *Keeper) Do() {
	m := k.copying.Load()
	if m.stopped.Load() {
		k.endCopy(m, errDeleted)
		return
	}
	if m.copy == nil {
		var err error
		if m.copy, err = k.c.Store.BeginCopy(m.told.Path + part); err != nil {
			k.endCopy(m, err)
			return
		}
		m.opened.Store(m.copy)
	}
	began := time.Now()
	all, err := m.copy.Step(m.bytes)
	took := time.Since(began)
	copied, whole := m.copy.Bytes()
	m.set(func(b *api.Backup) { b.CopiedBytes, b.Bytes = copied, whole })
	if all || err != nil {
		m.set(func(b *api.Backup) { b.At = k.c.Now() })
		k.endCopy(m, err)
		return
	}
	m.next = began.Add(time.Duration(float64(m.bytes) / float64(m.bytesPerSecond) * float64(time.Second)))
	switch {
	case took > stepFor:
		m.bytes = max(m.bytes/2, m.copy.PageBytes())
	case took < stepFor/2:
		m.bytes = min(m.bytes*2, mostBytes)
	}
}

// endCopy ends the copying.
func (k *Keeper) endCopy(m *making, err error) {
	k.copying.Store(nil)
	if m.copy != nil {
		err = errors.Join(err, m.copy.Finish())
	}
	m.copied <- err
}

// Begin is that of [commit.Listener], which hears of what ends a copy.
func (k *Keeper) Begin() {}

// Published goes with [Keeper.Begin].
func (k *Keeper) Published(*commit.Tx) {}

// Failed goes with [Keeper.Begin]: where the disk fails, it is spared the copying.
func (k *Keeper) Failed(error) { k.cut(errFaulty) }

// Loaded goes with [Keeper.Begin]: another connection has the file open then.
func (k *Keeper) Loaded() { k.cut(errFaulty) }

// Closed goes with [Keeper.Begin].
func (k *Keeper) Closed() { k.cut(errStopped) }

func (k *Keeper) cut(why error) {
	if m := k.copying.Load(); m != nil {
		k.endCopy(m, why)
	}
}

// copied waits until everything was copied, and writes it to the disk meanwhile: a great deal at
// once would hold up the commits.
func (k *Keeper) copied(m *making) (err error) {
	tick := time.NewTicker(syncEvery)
	defer tick.Stop()
	defer func() {
		if c := m.opened.Load(); c != nil {
			err = errors.Join(err, c.Close())
		}
	}()
	for {
		select {
		case err := <-m.copied:
			return err
		case <-tick.C:
			if c := m.opened.Load(); c != nil {
				if err := c.Sync(); err != nil {
					m.stopped.Store(true)
					<-m.copied
					return err
				}
			}
		}
	}
}
