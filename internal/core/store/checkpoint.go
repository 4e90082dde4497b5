package store

import "os"

// A checkpoint moves what the log holds into the file, once enough rows were written.
// It goes on beside the commits, on a connection of its own; but while writing never
// ceases the log begins anew only after one that nothing was written beside, so that
// every few of them is made between two commits, when little is left to move.
//
// A log that is written over is on the disk in half the time of one that grows, since its
// length stays: where nothing goes on it is emptied only if it is long.
const (
	enoughWritten = 32_000
	mostBeside    = 3
	keptLog       = 8 << 20
)

// checkpoints is what a store knows of its checkpoints.
type checkpoints struct {
	// written counts the rows that were written since the last one began, and beside
	// how many were made beside the commits since the last that was not.
	written, beside int
	// result gives the end of the one that is under way; nil where none is.
	result chan error
}

// Checkpoint begins a checkpoint where enough was written; with idle it makes a whole
// one at once, whatever was written. It is called between transactions.
func (s *Store) Checkpoint(idle bool) error {
	if err := s.checkpointed(idle); err != nil {
		return err
	}
	c := &s.checks
	if c.result != nil || c.written == 0 || !idle && c.written < enoughWritten {
		return nil
	}
	c.written = 0
	if !idle && c.beside < mostBeside {
		c.beside++
		c.result = make(chan error, 1)
		go func(result chan<- error) {
			_, err := s.checkDB.ExecContext(background, "PRAGMA wal_checkpoint(PASSIVE)")
			result <- err
		}(c.result)
		return nil
	}
	c.beside = 0
	mode := "PASSIVE"
	if idle && s.logSize() > keptLog {
		mode = "TRUNCATE"
	}
	_, err := s.conn.ExecContext(background, "PRAGMA wal_checkpoint("+mode+")")
	return err
}

// checkpointed takes the result of the checkpoint that is under way, where there is one;
// with wait when it has ended.
func (s *Store) checkpointed(wait bool) (err error) {
	c := &s.checks
	if c.result == nil {
		return nil
	}
	if wait {
		err, c.result = <-c.result, nil
		return err
	}
	select {
	case err = <-c.result:
		c.result = nil
	default:
	}
	return err
}

// logSize is how long the log is, whatever of it was moved.
func (s *Store) logSize() int64 {
	info, err := os.Stat(s.path + "-wal")
	if err != nil {
		return 0
	}
	return info.Size()
}

// emptyLog moves the log into the data file and empties it, where no reader keeps it; the
// next start does it else.
func (s *Store) emptyLog() { s.conn.ExecContext(background, "PRAGMA wal_checkpoint(TRUNCATE)") }
