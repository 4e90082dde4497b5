package store

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"humblemule.example/internal/machine"
)

// Inspection is what can be told of a data file without changing it.
type Inspection struct {
	// Exists is false where there is no file yet, which is none of the faults.
	Exists bool
	// Bytes is its length, with its log; Free is the room on its disk.
	Bytes, Free int64
	// Schema is the version of its tables, and Known the one that this program writes.
	Schema, Known int
	// InUse tells that a service has it open.
	InUse bool
}

// Inspect looks at a data file. An error says why a service could not use it.
func Inspect(path string) (i Inspection, err error) {
	i.Known = schema
	folder := filepath.Dir(path)
	if i.Free, _, err = machine.Room(folder); err != nil {
		return i, explain(path, err)
	}
	if err := machine.Usable(folder); err != nil {
		return i, fmt.Errorf("the folder %s cannot be written: %w; give the service one that it may write to with --data", folder, err)
	}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return i, nil
	}
	if err != nil {
		return i, explain(path, err)
	}
	if info.IsDir() {
		return i, fmt.Errorf("%s is a folder; give the path of a file with --data", path)
	}
	i.Exists, i.Bytes = true, info.Size()
	if log, err := os.Stat(path + "-wal"); err == nil {
		i.Bytes += log.Size()
	}
	if i.InUse, err = inUse(path); err != nil {
		return i, err
	}
	return i, i.read(path)
}

// Room tells how many bytes are free, and how many there are, on the disk of a file.
func Room(path string) (free, all int64, err error) {
	return machine.Room(filepath.Dir(path))
}

// Peek opens a data file beside the service that has it open, to read what the service
// would read at its start. Nothing of it is changed, and statements that write fail.
func Peek(path string) (*Store, error) {
	s := &Store{path: path}
	readOnly := source{path: path, readOnly: true, busy: time.Second}
	var err error
	if s.writeDB, err = readOnly.open(); err != nil {
		return nil, err
	}
	s.writeDB.SetMaxOpenConns(1)
	read, err := readOnly.open()
	if err == nil {
		s.read.Store(read)
		s.conn, err = s.writeDB.Conn(background)
	}
	if err == nil {
		err = s.prepare()
	}
	if err != nil {
		return nil, errors.Join(explain(path, err), s.Close())
	}
	return s, nil
}

// inUse tells whether a service holds the lock of a data file.
func inUse(path string) (bool, error) {
	f, err := os.Open(path + ".lock")
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, explain(path, err)
	}
	defer f.Close()
	return machine.Locked(f), nil
}

// read reads whose file it is, and its version.
func (i *Inspection) read(path string) error {
	db, err := source{path: path, readOnly: true, busy: time.Second}.open()
	if err != nil {
		return err
	}
	defer db.Close()
	s := &Store{path: path}
	if s.conn, err = db.Conn(background); err != nil {
		return explain(path, err)
	}
	defer s.conn.Close()
	if i.Schema, err = s.version(); err != nil {
		return explain(path, err)
	}
	return nil
}

// Path is where the data file is.
func (s *Store) Path() string { return s.path }
