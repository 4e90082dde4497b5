package store

import (
	"context"
	"fmt"
)

// Pages are those of a file.
type Pages struct {
	// All and Free count them: a free one is in use by nothing. Bytes is how long each is.
	All, Free, Bytes int64
}

// CanShrink tells whether free pages can be given back while the file is open. They can in every
// file that this program has made.
func (s *Store) CanShrink() (bool, error) {
	const incremental = 2
	mode, err := s.pragma("auto_vacuum")
	return mode == incremental, err
}

// Pages counts the file's pages, with what the transaction has changed.
func (s *Store) Pages() (p Pages, err error) {
	for name, into := range map[string]*int64{"page_count": &p.All, "freelist_count": &p.Free, "page_size": &p.Bytes} {
		if *into, err = s.pragma(name); err != nil {
			return p, err
		}
	}
	return p, nil
}

// ReadPages counts the file's pages as they were committed.
func (s *Store) ReadPages(ctx context.Context) (p Pages, err error) {
	err = s.askOne(ctx, "SELECT (SELECT page_count FROM pragma_page_count), (SELECT freelist_count FROM pragma_freelist_count), (SELECT page_size FROM pragma_page_size)").Scan(&p.All, &p.Free, &p.Bytes)
	return p, err
}

// Shrink gives so many free pages back, whose places those at the end of the file take.
func (s *Store) Shrink(pages int64) error {
	if err := s.WriteLate(); err != nil {
		return err
	}
	if err := s.begin(); err != nil {
		return err
	}
	s.checks.written += int(pages) // each is written anew
	rows, err := s.conn.QueryContext(background, fmt.Sprintf("PRAGMA incremental_vacuum(%d)", pages))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() { // a page a row
	}
	return rows.Err()
}

// LogBytes is how long the log is.
func (s *Store) LogBytes() int64 { return s.logSize() }
