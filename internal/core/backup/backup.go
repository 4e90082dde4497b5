// Package backup makes copies of the data file while it is written: when somebody asks, and by
// itself by rules. A copy is made some pages at a time by the committer, between two transactions
// and no faster than the rules say; then it is checked, and only a whole one takes its name.
package backup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/cron"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/machine"
	"humblemule.example/job"
)

// Keeper makes and keeps backups. Its methods may be called from any goroutine.
type Keeper struct {
	c *commit.Committer
	// version is the program's, which stands in each backup.
	version string
	// mu guards what follows.
	mu    sync.Mutex
	rules api.BackupRules
	rule  cron.Rule
	// making is the backup under way; nil for none. failed are those that have failed since the
	// start, the latest first.
	making *making
	failed []api.Backup
	// looked are the files that were looked into, by their names.
	looked map[string]looked
	// wrong says what has gone wrong with the latest that was made by itself, and retryAt when it
	// is tried again.
	wrong   string
	retryAt time.Time

	// copying is the one whose pages are being copied; nil for none.
	copying atomic.Pointer[making]
	changed chan struct{} // tells that the rules were set
	running sync.WaitGroup
}

// mostFailed is how many failures are told.
const mostFailed = 20

// New gives a keeper. Backups stand in the folder that is named after the data file until rules
// say otherwise.
func New(c *commit.Committer, version string) *Keeper {
	return &Keeper{c: c, version: version, looked: map[string]looked{}, changed: make(chan struct{}, 1)}
}

// SetBackupRules sets by which rules backups are made, which were checked.
func (k *Keeper) SetBackupRules(rules api.BackupRules) error {
	var rule cron.Rule
	if rules.Made() {
		var err error
		if rule, _, err = cron.NewRule(&api.Schedule{Cron: rules.Cron, Every: rules.Every, Zone: rules.Zone}, 0); err != nil {
			return err
		}
	}
	k.mu.Lock()
	k.rules, k.rule, k.retryAt = rules, rule, time.Time{}
	k.mu.Unlock()
	k.forgetParts()
	select {
	case k.changed <- struct{}{}:
	default:
	}
	return nil
}

// Start begins to make backups by the rules.
func (k *Keeper) Start() {
	k.forgetParts()
	k.running.Go(k.keepRules)
}

// Wait waits until no backup is worked on, after the committer has been told to quit.
func (k *Keeper) Wait() { k.running.Wait() }

// folder is where backups stand. The caller holds mu.
func (k *Keeper) folder() string {
	if k.rules.Folder != "" {
		return k.rules.Folder
	}
	return k.c.Store.Path() + ".backups"
}

// names are those of backups: who asked for it, and when in UTC.
var names = regexp.MustCompile(`^(backup|scheduled)-\d{8}T\d{6}Z\.db$`)

const (
	asked     = "backup-"
	scheduled = "scheduled-"
	part      = ".part"
	sumOf     = ".sha256"
)

func nameOf(prefix string, at time.Time) string {
	return prefix + at.UTC().Format("20060102T150405Z") + ".db"
}

// NoBackup says that a backup is not there.
func NoBackup(name string) error { return job.Fault(job.NotFound, "there is no backup %q", name) }

// MakeBackup begins a backup. While one is under way it is refused.
func (k *Keeper) MakeBackup(ctx context.Context) (told api.Backup, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	call := commit.CallOf(ctx)
	same := call.ID()
	var m *making
	again := ""
	err = k.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		r, err := v.Receipts.Find(same)
		if err != nil {
			return nil, err
		}
		if r != nil {
			again = nameOf(asked, time.Unix(r.IDs[0], 0))
			return nil, nil
		}
		if m == nil {
			if m, err = k.reserve(asked); err != nil {
				return nil, err
			}
		}
		return func(tx *commit.Tx) error {
			words, err := json.Marshal(map[string]string{"name": m.told.Name})
			if err != nil {
				return err
			}
			tx.Receipts.Note(same, m.at.Unix())
			_, err = tx.Store.InsertAction(tx.Now, call.Principal, "make_backup", 0, string(words))
			return err
		}, nil
	})
	switch {
	case err != nil && m != nil:
		k.giveUp(m)
		return told, err
	case err != nil:
		return told, err
	case again != "":
		return k.Backup(ctx, again)
	}
	k.begin(m)
	return m.tell(), nil
}

// reserve makes a backup the one under way.
func (k *Keeper) reserve(prefix string) (*making, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.making != nil {
		return nil, job.Fault(job.WrongState, "backup %s is under way; wait until it is done, or delete it: nothing was changed", k.making.told.Name)
	}
	folder, rules := k.folder(), k.rules.WithDefaults()
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, job.Fault(job.WrongState, "the folder of backups %s cannot be made: %v; nothing was changed", folder, err)
	}
	if err := k.hasRoom(folder); err != nil {
		return nil, err
	}
	at := k.c.Now().Go().Truncate(time.Second)
	for ; ; at = at.Add(time.Second) {
		if _, err := os.Lstat(filepath.Join(folder, nameOf(prefix, at))); err != nil {
			break
		}
	}
	m := &making{at: at, bytesPerSecond: int64(rules.MiBPerSecond) << 20, bytes: firstBytes, copied: make(chan error, 1)}
	m.told = api.Backup{Name: nameOf(prefix, at), State: api.BackupCopying, Scheduled: prefix == scheduled, BeganAt: k.c.Now(), Version: k.version}
	m.told.Path = filepath.Join(folder, m.told.Name)
	k.making = m
	return m, nil
}

// spare is what must be free beside a backup.
const spare = 64 << 20

// hasRoom refuses a backup for which there is no room on its disk.
func (k *Keeper) hasRoom(folder string) error {
	p, err := k.c.Store.Pages()
	if err != nil {
		return err
	}
	free, _, err := store.Room(filepath.Join(folder, "x"))
	if err != nil {
		return nil // the disk does not tell
	}
	if need := p.All*p.Bytes + spare; free < need {
		return job.Fault(job.NoSpace, "%d MiB are free on the disk of %s, and the backup needs %d MiB; free some space, or name another folder with backups.folder in the set-up file: nothing was changed", free>>20, folder, need>>20)
	}
	return nil
}

func (k *Keeper) giveUp(m *making) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.making == m {
		k.making = nil
	}
}

// begin has the committer copy, and somebody wait for it.
func (k *Keeper) begin(m *making) {
	k.copying.Store(m)
	k.running.Go(func() { k.see(m) })
	// So that the committer looks at it at once.
	_ = k.c.Do(context.Background(), func(*commit.View) (commit.Write, error) { return nil, nil })
}

// see sees to it that what the committer copies is written to the disk, checked, and named.
func (k *Keeper) see(m *making) {
	err := k.copied(m)
	// The check takes long: all else goes before it. The thread ends with this function, since it
	// cannot go forward again.
	runtime.LockOSThread()
	machine.StepBack()
	if err == nil {
		err = k.finish(m)
	}
	if err != nil {
		for _, name := range []string{part, part + "-journal", part + "-wal", part + "-shm", sumOf} {
			err = errors.Join(err, remove(m.told.Path+name))
		}
	}
	k.mu.Lock()
	m.mu.Lock()
	m.told.EndedAt = k.c.Now()
	m.told.State = api.BackupDone
	if err != nil {
		m.told.State, m.told.Why = api.BackupFailed, err.Error()
		k.failed = slices.Insert(k.failed, 0, m.told)
		k.failed = k.failed[:min(len(k.failed), mostFailed)]
	}
	told := m.told
	m.mu.Unlock()
	k.making = nil
	if told.Scheduled {
		if k.wrong = told.Why; err == nil {
			k.retryAt = time.Time{}
		}
	}
	k.mu.Unlock()
	switch {
	case errors.Is(err, errDeleted):
		k.c.Log.Info("a backup was deleted while it was made", "backup", told.Name)
		return
	case err != nil:
		k.c.Log.Error("a backup failed; nothing of it is kept", "backup", told.Name, "error", err)
		return
	}
	k.c.Log.Info("a backup is done and was checked", "backup", told.Path, "bytes", told.Bytes, "took", told.EndedAt.Sub(told.BeganAt))
	if told.Scheduled {
		k.prune()
	}
}

func remove(path string) error {
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return err
	}
	return nil
}

// quitting ends with the service.
func (k *Keeper) quitting() (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		select {
		case <-k.c.Quit:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// finish checks what was copied, and gives it its name.
func (k *Keeper) finish(m *making) error {
	ctx, cancel := k.quitting()
	defer cancel()
	from := m.told.Path + part
	m.set(func(b *api.Backup) { b.State = api.BackupChecking })
	origin, err := store.SealCopy(ctx, from, store.Origin{At: m.tell().At, Version: k.version})
	if ctx.Err() != nil {
		return errStopped
	}
	if err != nil {
		return fmt.Errorf("the copy was found wrong: %w", err)
	}
	sum, bytes, err := sumFile(ctx, from)
	if err == nil {
		err = writeSum(m.told.Path, sum)
	}
	if err == nil && m.stopped.Load() {
		err = errDeleted
	}
	if err == nil {
		err = store.Rename(from, m.told.Path)
	}
	m.set(func(b *api.Backup) {
		b.Store, b.Counts, b.SHA256, b.Bytes, b.CopiedBytes = origin.Store, origin.Counts, sum, bytes, bytes
	})
	return err
}
