package store

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"humblemule.example/internal/machine"
)

// ready makes a data file ready to be opened: it is there, nobody else's to read, known by
// one name, and its log is on the disk as it is in the system's cache.
func ready(path string) error {
	if err := onlyName(path); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	links, err := machine.Links(f)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if links > 1 {
		return fmt.Errorf("%s has %d names (hard links): a service that opens it by another name would not see the lock; remove the other names, or copy the file", path, links)
	}
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		if err := os.Chmod(name, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return renewLog(path)
}

// renewLog writes the log of a data file anew before SQLite reads it. After a failed fsync
// the system's cache may hold what the disk does not, and a later fsync does not write it
// again: then SQLite would find commits there that a power cut takes away, with those
// that were appended behind them.
func renewLog(path string) error {
	log := path + "-wal"
	old, err := os.Open(log)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer old.Close()
	if info, err := old.Stat(); err != nil || info.Size() == 0 {
		return err
	}
	if openElsewhere(path) { // its readers know the file that is there: it is renewed in place
		return rewrite(log)
	}
	renewed, err := os.OpenFile(log+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(renewed, old)
	err = errors.Join(err, renewed.Sync(), renewed.Close())
	if err == nil {
		err = os.Rename(log+".new", log)
	}
	if err != nil {
		os.Remove(log + ".new")
		return fmt.Errorf("the log %s could not be rewritten: %w", log, err)
	}
	return machine.SyncFolder(filepath.Dir(path))
}

// rewrite writes a file over itself and syncs it.
func rewrite(path string) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(raw, 0)
	return errors.Join(err, f.Sync(), f.Close())
}

// openElsewhere tells whether another process has a data file open with its log, such as
// the sqlite3 shell: SQLite holds a lock on byte 128 of the -shm file then.
func openElsewhere(path string) bool {
	f, err := os.OpenFile(path+"-shm", os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	const whileOpen = 128
	return machine.RangeLocked(f, whileOpen)
}

// What is known of ids beside the file: the lock file tells a mark below which ids may
// have been used, raised by a block before any of it is. A file that was copied, or put
// back as it was earlier, gets a new store id and goes on far above both.
const (
	markBlock = 1000
	farAbove  = 1 << 32
)

func (s *Store) readMark() error {
	raw, err := io.ReadAll(s.lock)
	if err != nil {
		return err
	}
	if text := strings.TrimSpace(string(raw)); text != "" {
		if s.mark, err = strconv.ParseInt(text, 10, 64); err != nil {
			return fmt.Errorf("%s.lock does not hold the mark of ids that it should: %w; remove it if no service has the file open", s.path, err)
		}
	}
	return nil
}

// raiseMark makes sure that the mark stands above ids that are about to be used.
func (s *Store) raiseMark(next int64) error {
	if next <= s.mark || s.lock == nil {
		return nil
	}
	return s.writeMark(next + markBlock)
}

func (s *Store) writeMark(mark int64) error {
	text := fmt.Sprintf("%d\n", mark)
	if _, err := s.lock.WriteAt([]byte(text), 0); err != nil {
		return err
	}
	if err := errors.Join(s.lock.Truncate(int64(len(text))), s.lock.Sync()); err != nil {
		return err
	}
	s.mark = mark
	return nil
}

// identify compares what the file says of itself with where it stands, and gives a file
// that was copied or put back a new store id.
func (s *Store) identify() error {
	inode, birth, err := identityOf(s.path)
	if err != nil {
		return err
	}
	facts, err := s.Facts()
	if err != nil {
		return err
	}
	was, err := s.facts("inode", "birth")
	if err != nil {
		return err
	}
	is := map[string]string{"inode": inode, "birth": birth}
	moved := was["inode"] != "" && (was["inode"] != inode || was["birth"] != birth && was["birth"] != "0" && birth != "0")
	next := max(facts.NextJob, s.mark)
	switch {
	case moved, s.mark > 0 && facts.NextJob < s.mark-markBlock:
		next += farAbove
		is["store"] = newStoreID()
	case was["inode"] == inode && was["birth"] == birth && next == facts.NextJob:
		return nil
	}
	for name, value := range is {
		if err := s.exec(sqlSetFact, name, value); err != nil {
			return err
		}
	}
	if err := s.PutNextJob(next); err != nil {
		return err
	}
	return s.Commit()
}

// facts reads facts of the file; those that it does not hold are empty.
func (s *Store) facts(names ...string) (map[string]string, error) {
	all := map[string]string{}
	for _, name := range names {
		var value string
		if err := s.conn.QueryRowContext(background, "SELECT coalesce((SELECT value FROM facts WHERE name = ?), '')", name).Scan(&value); err != nil {
			return nil, err
		}
		all[name] = value
	}
	return all, nil
}

// identityOf is a file's inode and the time of its birth, 0 where its system tells none.
// The device is not a part of it: it may have another number after a reboot.
func identityOf(path string) (inode, birth string, err error) {
	is, err := machine.Identify(path)
	if err != nil {
		return "", "", fmt.Errorf("%s cannot be looked at: %w", path, err)
	}
	birth = "0"
	if is.Made != 0 {
		birth = fmt.Sprintf("%d.%09d", is.Made/1e9, is.Made%1e9)
	}
	return fmt.Sprint(is.Number), birth, nil
}

// settleMark makes the mark what was used, when the file is closed in order.
func (s *Store) settleMark() error {
	if s.lock == nil || s.prepared == nil || s.mark == 0 {
		return nil
	}
	facts, err := s.Facts()
	if err != nil || facts.NextJob == s.mark {
		return err
	}
	return s.writeMark(facts.NextJob)
}
