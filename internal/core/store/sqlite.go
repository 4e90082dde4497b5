package store

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"humblemule.example/job"
)

// What only SQLite knows stands in this file (how it is opened, how its faults are told, and how
// the tokens of a statement are filled in), in identity.go (its log, and what tells one file from
// another), in checkpoint.go, copy.go, restore.go, compact.go and migrate.go, and in the schema.

// cacheKiB is how many pages the writing connection keeps. After a commit in which pages of a
// tree have changed places SQLite looks through every slot of its cache, so that a large one
// costs each commit more than it spares: with 64 MiB a life took 1.3 times as much in front
// of a million jobs as without them, with 16 MiB as much.
const cacheKiB = 16 << 10

// appID marks a file as ours ("HMul" in ASCII).
const appID = 0x484d756c

func (s *Store) connect() error {
	var err error
	s.writeDB, err = source{path: s.path, synchronous: "FULL", busy: 5 * time.Second, cacheKiB: cacheKiB}.open()
	if err != nil {
		return err
	}
	s.writeDB.SetMaxOpenConns(1)
	if s.conn, err = s.writeDB.Conn(background); err != nil {
		return err
	}
	version, err := s.version()
	if err != nil {
		return err
	}
	if version != 0 && version < schema {
		if err := s.rebuild(version); err != nil {
			return err
		}
		return s.connect()
	}
	// Only a file that is known to be ours is touched. Checkpoints are ours too:
	// between batches and when idle.
	const log = "PRAGMA journal_mode=WAL; PRAGMA wal_autocheckpoint=0"
	if version == 0 {
		s.mark = 0 // the mark of a file that was here before says nothing of a new one
		_, err = s.conn.ExecContext(background, ground+log)
		if err == nil {
			err = create(s.conn)
		}
	} else {
		_, err = s.conn.ExecContext(background, log)
	}
	if err != nil {
		return err
	}
	if err := s.prepare(); err != nil {
		return err
	}
	if s.checkDB, err = (source{path: s.path, synchronous: "FULL"}).open(); err != nil {
		return err
	}
	s.checkDB.SetMaxOpenConns(1)
	if _, err := s.checkDB.ExecContext(background, "PRAGMA wal_autocheckpoint=0"); err != nil {
		return err
	}
	read, err := source{path: s.path, readOnly: true, busy: 5 * time.Second, cacheKiB: 16 << 10}.open()
	if err != nil {
		return err
	}
	read.SetMaxOpenConns(4)
	read.SetMaxIdleConns(4)
	s.read.Store(read)
	return read.Ping()
}

// uriPath writes a path so that SQLite's URI parser reads it back whole.
var uriPath = strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23")

// fileLayer names the file layer that stores are opened on; empty for the system's.
var fileLayer string

// OpenOn has stores opened on a file layer that a test has registered, until undone.
func OpenOn(layer string) (undo func()) {
	before := fileLayer
	fileLayer = layer
	return func() { fileLayer = before }
}

// IsDiskFault tells whether err came from the disk under the file, so that
// the connection must not be used any more.
func IsDiskFault(err error) bool {
	fault := faultOf(err)
	return fault == faultIO || fault == faultCorrupt
}

// IsCorrupt tells whether err says that the file itself is damaged.
func IsCorrupt(err error) bool {
	fault := faultOf(err)
	return fault == faultCorrupt || fault == faultNotADB
}

// IsFull tells whether err says that the disk is full.
func IsFull(err error) bool {
	return faultOf(err) == faultFull
}

func (s *Store) pragma(name string) (n int64, err error) {
	err = s.conn.QueryRowContext(background, "PRAGMA "+name).Scan(&n)
	return n, err
}

// version tells the version of the file's tables; a file that is not ours to
// change is refused.
func (s *Store) version() (int, error) {
	id, err := s.pragma("application_id")
	if err != nil {
		return 0, err
	}
	version, err := s.pragma("user_version")
	if err != nil {
		return 0, err
	}
	var tables int
	if err := s.conn.QueryRowContext(background, "SELECT count(*) FROM sqlite_master").Scan(&tables); err != nil {
		return 0, err
	}
	if id != appID && tables > 0 {
		return 0, fmt.Errorf("%s is an SQLite file of another program; nothing was changed: choose another file with --data", s.path)
	}
	if known := schema; int(version) > known {
		return 0, fmt.Errorf("%s was written by a newer hmule (schema %d; this one knows %d); nothing was changed: start that newer hmule, or choose another file with --data", s.path, version, known)
	}
	return int(version), nil
}

func newStoreID() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

var bound = regexp.MustCompile(`(= |LIMIT |OFFSET )\?`)

// steady keeps a statement's plan. SQLite looks at the value of a bare parameter that is
// compared with a column of a partial index, or that is a limit, to choose its plan, and
// compiles the statement anew, in some 40 µs, whenever another value is bound.
func steady(text string) string { return bound.ReplaceAllString(text, "$1+?") }

// tokens are what stands in braces in a statement, but for {by INDEX}.
var tokens = func() *strings.Replacer {
	pairs := []string{"{payload}", fmt.Sprint(PayloadBody), "{result}", fmt.Sprint(ResultBody), "{stack}", fmt.Sprint(StackBody), "{edited}", fmt.Sprint(EditedBody), "{refused}", fmt.Sprint(RefusedBody)}
	for _, s := range job.States() {
		pairs = append(pairs, "{"+s.String()+"}", fmt.Sprint(int(s)))
	}
	return strings.NewReplacer(pairs...)
}()

var byIndex = regexp.MustCompile(`\{by (\w+)\}`)

// filled fills in the tokens of a statement.
func filled(text string) string {
	return byIndex.ReplaceAllString(tokens.Replace(text), "INDEXED BY $1")
}

// filledBefore are statements of the reading pool that were filled in, by their texts.
var filledBefore sync.Map

// known is filled for a text that comes again and again.
func known(text string) string {
	if !strings.Contains(text, "{") {
		return text
	}
	if f, found := filledBefore.Load(text); found {
		return f.(string)
	}
	f := filled(text)
	filledBefore.Store(text, f)
	return f
}
