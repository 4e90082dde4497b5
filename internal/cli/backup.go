package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/machine"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) backupCommand() *cobra.Command {
	return noun("backup", "Make copies of the data file while the service works; restore one",
		a.backupCreateCommand(), a.backupListCommand(), a.backupGetCommand(), a.backupCheckCommand(), a.backupDeleteCommand(), a.backupRestoreCommand())
}

func (a *app) backupCreateCommand() *cobra.Command {
	return &cobra.Command{
		Use: "create [FILE]", Short: "Make a backup of a running service", Args: args(cobra.MaximumNArgs(1)),
		Example: "  hmule backup create jobs-monday.db\n  hmule backup create",
		Long: `Make a backup of a running service: a copy of its data file that shows one moment, checked whole.
The service goes on working meanwhile.

With FILE the backup is fetched and written there, which takes a keeper's token where the service
has tokens. Without it the backup stays in the service's folder of backups.`,
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			into, err := newFile(given)
			if err != nil {
				return err
			}
			defer into.forget()
			b, err := m.MakeBackup(c.Context())
			if err != nil {
				return err
			}
			if b, err = a.followBackup(c.Context(), m, b); err != nil {
				return err
			}
			if into != nil {
				name := b.Name
				if err := fetchBackup(c.Context(), m, &b, into); err != nil {
					return fmt.Errorf("%w; the backup is kept at the service: hmule backup get %s FILE", err, name)
				}
				if err := m.DeleteBackup(c.Context(), name); err != nil {
					return fmt.Errorf("%s is written; its copy at the service could not be deleted: %w", b.Path, err)
				}
			}
			return a.showBackup(b)
		},
	}
}

// intoFile is a file that takes its name only once it is whole.
type intoFile struct {
	path string
	*os.File
}

// newFile begins a file that must not be there yet; nil where none is asked for.
func newFile(given []string) (*intoFile, error) {
	if len(given) == 0 {
		return nil, nil
	}
	path := given[len(given)-1]
	if _, err := os.Lstat(path); err == nil {
		return nil, usageError{fmt.Errorf("%s exists already; no file is replaced, so name another", path)}
	}
	f, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, usageError{fmt.Errorf("%s cannot be written: %w", path, err)}
	}
	return &intoFile{path, f}, nil
}

// name gives the file its name, after it was written to the disk.
func (f *intoFile) name() error {
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	if _, err := os.Lstat(f.path); err == nil {
		return fmt.Errorf("%s was made meanwhile; no file is replaced", f.path)
	}
	if err := os.Rename(f.Name(), f.path); err != nil {
		return err
	}
	return machine.SyncFolder(filepath.Dir(f.path))
}

// forget deletes the file unless it has its name.
func (f *intoFile) forget() {
	if f != nil {
		f.Close()
		os.Remove(f.Name())
	}
}

// fetchBackup writes a backup into a file.
func fetchBackup(ctx context.Context, m *client.Client, b *api.Backup, into *intoFile) error {
	h := sha256.New()
	n, err := m.BackupFile(ctx, b.Name, io.MultiWriter(into, h))
	if err == nil && b.SHA256 != "" && hex.EncodeToString(h.Sum(nil)) != b.SHA256 {
		err = errors.New("what has arrived is not what the service sent")
	}
	if err == nil {
		err = into.name()
	}
	if err != nil {
		return fmt.Errorf("%s was not written: %w", into.path, err)
	}
	b.Path, b.Name, b.Bytes = into.path, filepath.Base(into.path), n
	return nil
}

// followBackup waits until a backup is over, telling people how it goes.
func (a *app) followBackup(ctx context.Context, m *client.Client, b api.Backup) (api.Backup, error) {
	aside := a.aside()
	told := ""
	for !b.Over() {
		text := "Checking the copy."
		if b.State == api.BackupCopying {
			text = fmt.Sprintf("%s of %s copied.", bytesOf(b.CopiedBytes), bytesOf(b.Bytes))
		}
		if text != told && b.Bytes > 0 {
			aside.Hint("%s", text)
			told = text
		}
		select {
		case <-time.After(pollEvery):
		case <-ctx.Done():
			return b, interrupted{fmt.Sprintf("backup %s goes on without this command; see: hmule backup list, or end it: hmule backup delete %s", b.Name, b.Name)}
		}
		next, err := m.Backup(ctx, b.Name)
		if err != nil && ctx.Err() == nil {
			return b, err
		}
		if err == nil {
			b = next
		}
	}
	if b.State == api.BackupFailed {
		return b, fmt.Errorf("the backup failed: %s", b.Why)
	}
	return b, nil
}

// pollEvery is how often it is asked how far something has come.
const pollEvery = 250 * time.Millisecond

func (a *app) showBackup(b api.Backup) error {
	return a.show(b, []string{b.Name}, func(o *present.Out) {
		o.Line("%s is a whole, checked backup.", present.Strong(b.Path))
		o.Facts([2]string{"shows", present.Time(b.At)}, [2]string{"size", bytesOf(b.Bytes)}, [2]string{"jobs", countsOf(b.Counts)}, [2]string{"store", b.Store}, [2]string{"sha256", b.SHA256})
		o.Hint("hmule backup restore %s --data FILE    # makes a data file of it", b.Path)
	})
}

// countsOf writes how many jobs are in which state.
func countsOf(counts map[job.State]int64) string {
	var parts []string
	for _, s := range job.States() {
		if n := counts[s]; n > 0 {
			parts = append(parts, sentence.Grouped(n)+" "+s.String())
		}
	}
	return cmp.Or(strings.Join(parts, ", "), "none")
}

func (a *app) backupListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the backups in the service's folder", Args: args(cobra.NoArgs), Example: "  hmule backup list",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Backups(c.Context())
			if err != nil {
				return err
			}
			return a.show(all, names(all.Backups, func(b *api.Backup) string { return b.Name }), func(o *present.Out) { listBackups(o, all) })
		},
	}
}

func listBackups(o *present.Out, all api.Backups) {
	if len(all.Backups) == 0 {
		o.Line("There is no backup in %s.", all.Folder)
	} else {
		rows := make([][]string, len(all.Backups))
		for i, b := range all.Backups {
			rows[i] = []string{b.Name, b.State, "", bytesOf(b.Bytes), countsOf(b.Counts)}
			if b.At != 0 {
				rows[i][2] = present.Time(b.At)
			}
			switch {
			case b.Why != "":
				rows[i][4] = b.Why
			case b.State == api.BackupCopying:
				rows[i][4] = bytesOf(b.CopiedBytes) + " copied"
			}
		}
		o.Line("In %s", all.Folder)
		o.Table([]present.Column{{Head: "backup"}, {Head: "state"}, {Head: "shows"}, {Head: "size", Right: true}, {Head: "jobs"}}, rows)
	}
	switch {
	case all.Wrong != "":
		o.Line("The latest scheduled backup failed: %s.", all.Wrong)
	case all.NextAt != 0:
		o.Line("The next scheduled backup is made at %s; the latest %d stay.", present.Time(all.NextAt), all.Rules.Keep)
	default:
		o.Line("No backup is scheduled; the section backups of the set-up file says when one is made.")
	}
	o.Hint("hmule backup create FILE")
}

func (a *app) backupGetCommand() *cobra.Command {
	return &cobra.Command{
		Use: "get BACKUP FILE", Short: "Fetch a backup from the service's folder", Args: args(cobra.ExactArgs(2)), Example: "  hmule backup get scheduled-20261130T030000Z.db jobs-monday.db",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			b, err := m.Backup(c.Context(), given[0])
			if err != nil {
				return err
			}
			into, err := newFile(given)
			if err != nil {
				return err
			}
			defer into.forget()
			if err := fetchBackup(c.Context(), m, &b, into); err != nil {
				return err
			}
			return a.showBackup(b)
		},
	}
}

func (a *app) backupCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE", Short: "Check the file of a backup: every page, and that its counts agree with its jobs", Args: args(cobra.ExactArgs(1)), Example: "  hmule backup check jobs-monday.db",
		RunE: func(c *cobra.Command, given []string) error {
			i, err := engine.LookAtCopy(c.Context(), given[0])
			if err == nil {
				err = engine.CheckCopy(c.Context(), given[0])
			}
			if err != nil {
				return err
			}
			return a.showBackup(api.Backup{Name: filepath.Base(given[0]), Path: given[0], State: api.BackupDone, Bytes: i.Bytes, CopiedBytes: i.Bytes, At: i.At, Store: i.Store, Version: i.Version, Counts: i.Counts})
		},
	}
}

func (a *app) backupDeleteCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "delete BACKUP...", Short: "Delete backups from the service's folder, or stop one under way", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule backup delete backup-20261130T101500Z.db",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			if err := a.confirm(c, yes, "Delete %s for good?", many(int64(len(given)), "backup")); err != nil {
				return err
			}
			var refused []error
			for _, name := range given {
				refused = append(refused, m.DeleteBackup(c.Context(), name))
			}
			if err := errors.Join(refused...); err != nil {
				return err
			}
			return a.show(map[string]any{"deleted": given}, given, func(o *present.Out) {
				for _, name := range given {
					o.Line("%s is deleted.", name)
				}
			})
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask; for scripts")
	return c
}

func (a *app) backupRestoreCommand() *cobra.Command {
	var asked serving
	var ask asking
	c := &cobra.Command{
		Use: "restore FILE", Short: "Make a backup the data file of a service that is stopped", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule backup restore jobs-monday.db --data jobs.db",
		Long: `Make a backup the data file of a service that is stopped. The file that is there is kept beside it.

The store gets a new id, and ids of jobs go on 2^32 above all that are known, so that none comes
twice. Jobs that have ended since the backup run again; which they are is told, where the file
that was there can be read. Planned times of schedules up to now are not enqueued again.`,
		RunE: func(c *cobra.Command, given []string) error {
			if _, err := asked.read(c); err != nil {
				return usageError{err}
			}
			r, err := engine.Restore(c.Context(), given[0], asked.Data, time.Now(), true)
			if err != nil {
				return err
			}
			if !ask.dryRun {
				if onTerminal(c) && !ask.yes {
					tellLacks(a.aside(), r)
				}
				if err := a.confirm(c, ask.yes, "Restore %s from the backup of %s?", asked.Data, present.Time(r.From.At)); err != nil {
					return err
				}
				if r, err = engine.Restore(c.Context(), given[0], asked.Data, time.Now(), false); err != nil {
					return err
				}
			}
			return a.show(r, nil, func(o *present.Out) { tellRestored(o, asked.Data, r, ask.dryRun) })
		},
	}
	ask.flags(c)
	asked.flags(c, "data")
	return c
}

// tellLacks tells what a backup lacks against the file whose place it takes.
func tellLacks(o *present.Out, r engine.Restored) {
	switch {
	case r.Unread != "":
		o.Line("What the backup lacks is not known: %s.", r.Unread)
		return
	case r.Lacks == nil:
		return
	}
	l := r.Lacks
	if l.IDs == 0 && l.Ended == 0 && l.Actions == 0 {
		o.Line("The backup lacks nothing that is in the file.")
		return
	}
	o.Line("Against the file that is there the backup lacks")
	o.Facts([2]string{"jobs enqueued since", fmt.Sprintf("%s, of which %s are still there", sentence.Grouped(l.IDs), sentence.Grouped(l.Kept))},
		[2]string{"actions since", sentence.Grouped(l.Actions)})
	if l.Ended > 0 {
		some := make([]string, len(l.Some))
		for i, id := range l.Some {
			some[i] = fmt.Sprint(id)
		}
		more := ""
		if n := l.Ended - int64(len(some)); n > 0 {
			more = fmt.Sprintf(" and %s more", sentence.Grouped(n))
		}
		o.Line("%s since and will run again: %s%s.", sentence.Count(l.Ended, "job has ended", "jobs have ended"), strings.Join(some, ", "), more)
	}
}

func tellRestored(o *present.Out, path string, r engine.Restored, dry bool) {
	tellLacks(o, r)
	if dry {
		o.Line("Nothing was changed: this was a dry run.")
		return
	}
	o.Line("%s is restored from the backup of %s.", present.Strong(path), present.Time(r.From.At))
	facts := [][2]string{{"jobs", countsOf(r.From.Counts)}, {"store", r.Store}, {"next job", sentence.Grouped(r.NextJob)}}
	if r.Aside != "" {
		facts = append(facts, [2]string{"before", r.Aside})
	}
	o.Facts(facts...)
	o.Hint("hmule serve --data %s", path)
}

func (a *app) compactCommand() *cobra.Command {
	var stop bool
	c := &cobra.Command{
		Use: "compact", Short: "Give the parts of the data file that nothing uses back to the disk", Args: args(cobra.NoArgs), Example: "  hmule compact",
		Long: `Give the parts of the data file that nothing uses back to the disk, while the service works: a
little in each transaction. Parts that become free are used again by themselves; this is only worth
it after many jobs were removed.`,
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			do := m.Compact
			if stop {
				do = m.StopCompact
			}
			d, err := do(c.Context())
			if err != nil {
				return err
			}
			if d, err = a.followCompaction(c.Context(), m, d); err != nil {
				return err
			}
			return a.show(d, nil, func(o *present.Out) { tellDataFile(o, d) })
		},
	}
	c.Flags().BoolVar(&stop, "stop", false, "stop the one under way; what was given back stays so")
	return c
}

func (a *app) followCompaction(ctx context.Context, m *client.Client, d api.DataFile) (api.DataFile, error) {
	aside := a.aside()
	for told := ""; d.Compaction != nil && d.Compaction.State == api.CompactRunning; {
		if text := fmt.Sprintf("%s given back, %s to go.", bytesOf(d.Compaction.FreedBytes), bytesOf(d.Compaction.LeftBytes)); text != told {
			aside.Hint("%s", text)
			told = text
		}
		select {
		case <-time.After(pollEvery):
		case <-ctx.Done():
			return d, interrupted{"the compaction goes on without this command; end it with: hmule compact --stop"}
		}
		next, err := m.DataFile(ctx)
		if err != nil && ctx.Err() == nil {
			return d, err
		}
		if err == nil {
			d = next
		}
	}
	return d, nil
}

func tellDataFile(o *present.Out, d api.DataFile) {
	switch last := d.Compaction; {
	case last == nil:
	case last.State == api.CompactStopped:
		o.Line("Compacting was stopped (%s); %s were given back.", last.Why, bytesOf(last.FreedBytes))
	case last.FreedBytes == 0:
		o.Line("There was nothing to give back.")
	default:
		o.Line("%s were given back to the disk.", bytesOf(last.FreedBytes))
	}
	o.Facts([2]string{"data file", d.Path}, [2]string{"size", bytesOf(d.Bytes)}, [2]string{"free in it", bytesOf(d.FreeBytes)}, [2]string{"log", bytesOf(d.LogBytes)}, [2]string{"free on the disk", bytesOf(d.DiskFreeBytes)})
}
