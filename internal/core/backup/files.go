package backup

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// looked is what a file was found to be.
type looked struct {
	at    time.Time
	bytes int64
	told  api.Backup
}

// Backups lists the backups.
func (k *Keeper) Backups(ctx context.Context) (all api.Backups, err error) {
	if err := scope.Whole(ctx); err != nil {
		return all, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	all = api.Backups{Folder: k.folder(), Rules: k.rules.WithDefaults(), NextAt: job.At(k.next()), Wrong: k.wrong, Backups: slices.Clone(k.failed)}
	if k.next().IsZero() {
		all.NextAt = 0
	}
	if k.making != nil {
		all.Backups = append(all.Backups, k.making.tell())
	}
	all.Backups = append(all.Backups, k.look()...)
	slices.SortStableFunc(all.Backups, func(a, b api.Backup) int { return cmp.Compare(b.BeganAt, a.BeganAt) })
	return all, nil
}

// look finds the backups that are there. The caller holds mu.
func (k *Keeper) look() (all []api.Backup) {
	entries, err := os.ReadDir(k.folder())
	if err != nil {
		return nil // there is none yet
	}
	seen := map[string]looked{}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || !names.MatchString(e.Name()) {
			continue
		}
		path := filepath.Join(k.folder(), e.Name())
		l := k.looked[path]
		if !l.at.Equal(info.ModTime()) || l.bytes != info.Size() {
			l = looked{info.ModTime(), info.Size(), lookAt(path)}
		}
		seen[path] = l
		all = append(all, l.told)
	}
	k.looked = seen
	return all
}

// lookAt tells of a backup by its file.
func lookAt(path string) api.Backup {
	told := api.Backup{Name: filepath.Base(path), Path: path, State: api.BackupDone, Scheduled: strings.HasPrefix(filepath.Base(path), scheduled)}
	_, stamp, _ := strings.Cut(strings.TrimSuffix(told.Name, ".db"), "-")
	if at, err := time.Parse("20060102T150405Z", stamp); err == nil {
		told.BeganAt = job.At(at)
	}
	i, err := store.LookAtCopy(context.Background(), path)
	told.Bytes, told.CopiedBytes = i.Bytes, i.Bytes
	if err != nil {
		told.State, told.Why = api.BackupFailed, err.Error()
		return told
	}
	told.At, told.EndedAt, told.Store, told.Version, told.Counts = i.At, i.At, i.Store, i.Version, i.Counts
	if sum, err := os.ReadFile(path + sumOf); err == nil {
		told.SHA256, _, _ = strings.Cut(string(sum), " ")
	}
	return told
}

// Backup tells of one backup.
func (k *Keeper) Backup(ctx context.Context, name string) (api.Backup, error) {
	all, err := k.Backups(ctx)
	if err != nil {
		return api.Backup{}, err
	}
	if i := slices.IndexFunc(all.Backups, func(b api.Backup) bool { return b.Name == name }); i >= 0 {
		return all.Backups[i], nil
	}
	return api.Backup{}, NoBackup(name)
}

// OpenBackup opens the file of a backup that is done.
func (k *Keeper) OpenBackup(ctx context.Context, name string) (*os.File, api.Backup, error) {
	b, err := k.Backup(ctx, name)
	if err != nil {
		return nil, b, err
	}
	if b.State != api.BackupDone {
		return nil, b, job.Fault(job.WrongState, "backup %s is %s; there is no file of it", name, b.State)
	}
	f, err := os.Open(b.Path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, b, NoBackup(name)
	}
	return f, b, err
}

// DeleteBackup deletes a backup; one under way is stopped, and nothing of it is kept.
func (k *Keeper) DeleteBackup(ctx context.Context, name string) error {
	b, err := k.Backup(ctx, name)
	if err != nil {
		return err
	}
	err = k.c.Record(ctx, "delete_backup", 0, map[string]string{"name": name}, func(*commit.View) (commit.Act, error) { return nil, nil })
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.making != nil && k.making.told.Name == name {
		k.making.stopped.Store(true)
		return nil
	}
	k.failed = slices.DeleteFunc(k.failed, func(f api.Backup) bool { return f.Name == name })
	return errors.Join(remove(b.Path), remove(b.Path+sumOf))
}

// prune deletes the oldest of the backups that were made by themselves, where there are more than
// are kept.
func (k *Keeper) prune() {
	k.mu.Lock()
	defer k.mu.Unlock()
	var own []api.Backup
	for _, b := range k.look() {
		if b.Scheduled {
			own = append(own, b)
		}
	}
	slices.SortFunc(own, func(a, b api.Backup) int { return cmp.Compare(b.BeganAt, a.BeganAt) })
	for _, old := range own[min(len(own), k.rules.WithDefaults().Keep):] {
		if err := errors.Join(remove(old.Path), remove(old.Path+sumOf)); err != nil {
			k.c.Log.Warn("an old backup could not be deleted", "backup", old.Path, "error", err)
		}
	}
}

// forgetParts deletes what was begun when the service was killed.
func (k *Keeper) forgetParts() {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.making != nil {
		return
	}
	entries, err := os.ReadDir(k.folder())
	if err != nil {
		return
	}
	parts := map[string]bool{}
	for _, e := range entries {
		if name, _, is := strings.Cut(e.Name(), part); is && names.MatchString(name) {
			parts[e.Name()] = true
		}
		if name, is := strings.CutSuffix(e.Name(), sumOf); is && names.MatchString(name) {
			if _, err := os.Lstat(filepath.Join(k.folder(), name)); errors.Is(err, os.ErrNotExist) {
				parts[e.Name()] = true
			}
		}
	}
	for name := range maps.Keys(parts) {
		if err := remove(filepath.Join(k.folder(), name)); err != nil {
			k.c.Log.Warn("what was begun of a backup could not be deleted", "file", name, "error", err)
		}
	}
}

// sumFile reckons the SHA-256 of a file.
func sumFile(ctx context.Context, path string) (sum string, bytes int64, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	for err == nil {
		var n int64
		n, err = io.CopyN(h, f, mostBytes)
		bytes += n
		if ctx.Err() != nil {
			return "", 0, errStopped
		}
	}
	if !errors.Is(err, io.EOF) {
		return "", 0, err
	}
	return hex.EncodeToString(h.Sum(nil)), bytes, nil
}

// writeSum writes a sum beside a backup, as sha256sum reads it.
func writeSum(path, sum string) error {
	f, err := os.OpenFile(path+sumOf, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	fmt.Fprintf(w, "%s  %s\n", sum, filepath.Base(path))
	return errors.Join(w.Flush(), f.Sync(), f.Close())
}
