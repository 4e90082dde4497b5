package store

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"humblemule.example/internal/core/words"
	"humblemule.example/job"
)

// A file whose tables are older is built anew beside the one that is there, written to the
// disk, and put in its place: until then nothing of the old one has changed, whatever stops
// the service.

// schema is the version of the tables that this program writes. Those to the sixth were
// reached by the scripts in schema/old, one after the other; in those jobs were a single
// table.
const schema = 16

// oldScripts are the scripts that brought the tables from each version to the next.
func oldScripts() []string {
	files, err := fs.Glob(schemas, "schema/old/*.sql")
	if err != nil {
		panic(err) // the pattern is constant
	}
	return files
}

func script(names ...string) string {
	var all strings.Builder
	for _, name := range names {
		text, err := schemas.ReadFile(name)
		if err != nil {
			panic(err) // they are in the program
		}
		all.Write(text)
	}
	return all.String()
}

// versioned is a script in a transaction, after which the tables have a version.
func versioned(text string, version int) string {
	return fmt.Sprintf("BEGIN IMMEDIATE;\n%s\nPRAGMA application_id=%d;\nPRAGMA user_version=%d;\nCOMMIT;", text, appID, version)
}

// ground prepares an empty file for its tables: pages that become free can be given back
// later, some at a time.
const ground = "PRAGMA auto_vacuum = INCREMENTAL; "

// create makes the tables of a new file.
func create(conn *sql.Conn) error {
	facts := fmt.Sprintf("\nINSERT INTO facts VALUES ('store','%s'), ('next_job','1');\n", newStoreID())
	_, err := conn.ExecContext(background, versioned(script("schema/tables.sql", "schema/views.sql")+facts, schema))
	if err != nil {
		conn.ExecContext(background, "ROLLBACK")
	}
	return err
}

// Moved is told how many of a file's jobs were carried over to its new tables.
type Moved func(done, all int64)

// rebuild brings a file of an older version to this one. The file is open, and closed when
// it answers.
func (s *Store) rebuild(version int) error {
	err := s.rebuiltFrom(version)
	for _, name := range []string{s.path + ".copy", s.path + ".new"} {
		os.Remove(name)
		os.Remove(name + "-journal")
	}
	if err == nil {
		return nil
	}
	err = fmt.Errorf("the tables could not be converted from schema %d to %d, and are unchanged: %w", version, schema, err)
	if IsFull(err) {
		err = fmt.Errorf("%w; twice the size of the file must be free on its disk", err)
	}
	return err
}

func (s *Store) rebuiltFrom(version int) error {
	// Its log must be gone before another file takes its name, since SQLite would take it for
	// that one's.
	var mode string
	err := s.conn.QueryRowContext(background, "PRAGMA journal_mode = DELETE").Scan(&mode)
	if faultOf(err) == faultBusy || err == nil && mode != "delete" {
		return errors.New("the file is open in another program; close it there first")
	}
	if err != nil {
		return err
	}
	for _, name := range []string{s.path + ".copy", s.path + ".new"} { // of a time when it was stopped
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	from := s.path
	if scripts := oldScripts(); version < len(scripts) {
		from = s.path + ".copy"
		if _, err := s.conn.ExecContext(background, "VACUUM INTO ?", from); err != nil {
			return err
		}
		if err := upgrade(from, version, scripts); err != nil {
			return err
		}
	}
	known := s.isItself()
	if err := s.closeWriter(); err != nil {
		return err
	}
	if err := s.buildFrom(from, known); err != nil {
		return err
	}
	aside := ""
	if !s.opening.DropOlder {
		aside = fmt.Sprintf("%s.schema-%d", s.path, version)
		if taken, err := exists(aside); err != nil {
			return err
		} else if taken {
			aside += "-" + stampOf(job.At(time.Now()))
		}
		if err := nameAlso(s.path, aside); err != nil {
			return fmt.Errorf("the file could not be kept as it is: %w", err)
		}
	}
	if err := Rename(s.path+".new", s.path); err != nil {
		return errors.Join(err, onlyName(s.path))
	}
	s.older = aside
	return nil
}

// isItself tells whether the file is the one that it says it is, and no copy of it.
func (s *Store) isItself() bool {
	was, err := s.facts("inode", "birth")
	if err != nil {
		return false
	}
	inode, birth, err := identityOf(s.path)
	return err == nil && was["inode"] == inode && (was["birth"] == birth || was["birth"] == "0" || birth == "0")
}

func (s *Store) closeWriter() error {
	err := errors.Join(s.conn.Close(), s.writeDB.Close())
	s.conn, s.writeDB = nil, nil
	return err
}

// upgrade runs the scripts on a copy, which need not survive anything.
func upgrade(path string, version int, scripts []string) error {
	return onFile(path, "OFF", func(conn *sql.Conn) error {
		for v := version; v < len(scripts); v++ {
			if _, err := conn.ExecContext(background, versioned(script(scripts[v]), v+1)); err != nil {
				return err
			}
		}
		return nil
	})
}

// onFile opens a file without a journal: nobody else knows it, and what is half done is
// thrown away.
func onFile(path, synchronous string, do func(conn *sql.Conn) error) error {
	db, err := source{path: path, synchronous: synchronous, cacheKiB: 64 << 10}.open()
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(background)
	if err == nil {
		_, err = conn.ExecContext(background, ground+"PRAGMA journal_mode = OFF")
	}
	if err == nil {
		err = do(conn)
	}
	if conn != nil {
		err = errors.Join(err, conn.Close())
	}
	return errors.Join(err, db.Close())
}

// carried are the tables whose rows are carried over as they are.
var carried = []string{
	"facts", "queues", "tasks", "policies", "workers", "attempts", "bodies", "log_lines", "results_kept", "steps", "counts", "past_counts", "keys", "lanes", "turns",
	"actions", "operations", "operation_counts", "receipts", "causes", "schedules", "schedule_runs",
	"deltas", "series", "history", "marks", "starts", "follows", "follow_counts", "sessions", "imports", "imported",
	"edges", "endings", "batches", "batch_counts", "hooks", "deliveries", "silent_hosts", "endpoints", "alerts",
}

// buildFrom builds the new file beside the old one in a single transaction, whose end writes
// it to the disk.
func (s *Store) buildFrom(from string, known bool) error {
	to := s.path + ".new"
	return onFile(to, "FULL", func(conn *sql.Conn) error {
		if err := create(conn); err != nil {
			return err
		}
		if err := os.Chmod(to, 0o600); err != nil {
			return err
		}
		if _, err := conn.ExecContext(background, "ATTACH ? AS old", from); err != nil {
			return err
		}
		if _, err := conn.ExecContext(background, "BEGIN IMMEDIATE; DELETE FROM main.facts"); err != nil {
			return err
		}
		for _, table := range carried {
			if err := carry(conn, table); err != nil {
				return fmt.Errorf("%s: %w", table, err)
			}
		}
		if err := carryCauseTexts(conn); err != nil {
			return fmt.Errorf("cause_texts: %w", err)
		}
		if err := s.carryJobs(conn); err != nil {
			return err
		}
		if _, err := conn.ExecContext(background, filled(recount)); err != nil {
			return fmt.Errorf("cause_counts: %w", err)
		}
		if err := carryFinding(conn); err != nil {
			return err
		}
		if err := carryWords(conn); err != nil {
			return fmt.Errorf("failed_words: %w", err)
		}
		if known {
			inode, birth, err := identityOf(to)
			if err != nil {
				return err
			}
			if _, err := conn.ExecContext(background, "UPDATE facts SET value = CASE name WHEN 'inode' THEN ? ELSE ? END WHERE name IN ('inode', 'birth')", inode, birth); err != nil {
				return err
			}
		}
		_, err := conn.ExecContext(background, "COMMIT")
		return err
	})
}

// carry carries a table's rows over, where it was there.
func carry(conn *sql.Conn, table string) error {
	names, err := carriedColumns(conn, table, table)
	if err != nil || names == "" {
		return err
	}
	_, err = conn.ExecContext(background, fmt.Sprintf("INSERT INTO main.%s (%s) SELECT %s FROM old.%s ORDER BY 1", table, names, names, table))
	return err
}

// carriedColumns are those that a table has both now and as it was, parted by commas.
func carriedColumns(conn *sql.Conn, table, was string) (string, error) {
	now, err := columnsOf(conn, "main", table)
	if err != nil {
		return "", err
	}
	before, err := columnsOf(conn, "old", was)
	now = slices.DeleteFunc(now, func(name string) bool { return !slices.Contains(before, name) })
	return strings.Join(now, ", "), err
}

func columnsOf(conn *sql.Conn, file, table string) (names []string, err error) {
	rows, err := conn.QueryContext(background, "SELECT name FROM pragma_table_info(?, ?) ORDER BY cid", table, file)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, rows.Err()
}

// carryTexts gives the messages of a cause, which stood in its row, to the queue and the task
// of its latest job or, where that is no longer kept, of any that is counted under it.
const carryTexts = `INSERT INTO main.cause_texts (cause, queue, task, texts, job, at)
	SELECT c.id, coalesce(j.queue, n.queue, 0), coalesce(j.task, n.task, 0), c.texts, c.job, c.last_at FROM old.causes c
	LEFT JOIN old.jobs j ON j.id = c.job LEFT JOIN (SELECT cause, min(queue) AS queue, task FROM old.cause_counts GROUP BY cause) n ON n.cause = c.id`

func carryCauseTexts(conn *sql.Conn) error {
	was, err := columnsOf(conn, "old", "cause_texts")
	if err != nil {
		return err
	}
	if len(was) > 0 {
		return carry(conn, "cause_texts")
	}
	_, err = conn.ExecContext(background, carryTexts)
	return err
}

// recount counts anew how many jobs are in backoff or dead by a cause, and where they failed.
const recount = `INSERT INTO main.cause_counts (cause, state, queue, task, version, host, n)
	SELECT j.cause, j.state, j.queue, j.task, coalesce(w.version, ''), coalesce(w.host, ''), count(*) FROM main.jobs j LEFT JOIN main.workers w ON w.id = j.worker
	WHERE j.cause <> 0 AND j.state IN ({backoff}, {dead}) AND j.removed_by = 0 GROUP BY 1, 2, 3, 4, 5, 6`

// carryFinding makes what jobs are found by: as it was, or from the jobs where it was not there.
func carryFinding(conn *sql.Conn) error {
	was, err := columnsOf(conn, "old", "labelled")
	if err != nil {
		return err
	}
	if len(was) > 0 {
		return errors.Join(carry(conn, "owner_counts"), carry(conn, "labelled"), carry(conn, "issued"))
	}
	_, err = conn.ExecContext(background, `INSERT INTO main.owner_counts (owner, state, n) SELECT owner, state, count(*) FROM main.jobs WHERE owner <> '' AND removed_by = 0 GROUP BY 1, 2;
		INSERT INTO main.issued (minute, first, last) SELECT enqueued_at / 60000, min(id), max(id) FROM main.jobs GROUP BY 1`)
	if err != nil {
		return fmt.Errorf("owner_counts, issued: %w", err)
	}
	const atOnce = 10_000
	for after := int64(0); ; {
		part, err := labelsAfter(conn, after, atOnce)
		if err != nil || len(part) == 0 {
			return err
		}
		for _, p := range part {
			for name, value := range labelsIn(p.labels) {
				if _, err := conn.ExecContext(background, "INSERT INTO main.labelled (label, job) VALUES (?, ?) ON CONFLICT DO NOTHING", LabelHash(name, value), p.job); err != nil {
					return fmt.Errorf("labelled: %w", err)
				}
			}
			after = p.job
		}
	}
}

// carryWords makes what failed jobs are found by: as it was, or from their failures where it was
// not there.
func carryWords(conn *sql.Conn) error {
	was, err := columnsOf(conn, "old", "failed_words")
	if err != nil {
		return err
	}
	if len(was) > 0 {
		return errors.Join(carry(conn, "failed_words"), carry(conn, "late_words"))
	}
	for after := int64(0); ; {
		block, all, err := wordsAfter(conn, after)
		if err != nil || len(all) == 0 {
			return err
		}
		if _, err := conn.ExecContext(background, "INSERT INTO main.failed_words (block, part, words) VALUES (?, 0, ?)", block, []byte(packWords(all))); err != nil {
			return err
		}
		_, after = JobsOf(block)
	}
}

// wordsAfter reads the words of failures of the first block that has any beyond a job.
func wordsAfter(conn *sql.Conn, after int64) (block int64, all map[uint32]bool, err error) {
	found, err := conn.QueryContext(background, `SELECT a.job, a.error_type, a.error_message, coalesce(c.template, '') FROM main.attempts a
		LEFT JOIN main.jobs j ON j.id = a.job LEFT JOIN main.causes c ON c.id = j.cause WHERE a.job > ? AND (a.error_type <> '' OR a.error_message <> '') ORDER BY a.job`, after)
	if err != nil {
		return 0, nil, err
	}
	defer found.Close()
	all = map[uint32]bool{}
	for found.Next() {
		var id int64
		var errorType, message, template string
		if err := found.Scan(&id, &errorType, &message, &template); err != nil {
			return 0, nil, err
		}
		if len(all) > 0 && BlockOf(id) != block {
			break
		}
		block = BlockOf(id)
		for _, h := range words.OfFailure(errorType, message, template) {
			all[h] = true
		}
	}
	return block, all, found.Err()
}

type labelsOfJob struct {
	job    int64
	labels string
}

func labelsAfter(conn *sql.Conn, after int64, limit int) (all []labelsOfJob, err error) {
	found, err := conn.QueryContext(background, "SELECT job, labels FROM main.specs WHERE labels <> '' AND job > ? ORDER BY job LIMIT ?", after, limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var p labelsOfJob
		if err := found.Scan(&p.job, &p.labels); err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, found.Err()
}

// carriedAtOnce is how many ids are carried over between two words of progress.
const carriedAtOnce = 100_000

// carryJobs carries over where each job stands, and what was asked for, which a single row told
// before.
func (s *Store) carryJobs(conn *sql.Conn) error {
	was, key := "specs", "job"
	if columns, err := columnsOf(conn, "old", was); err != nil {
		return err
	} else if len(columns) == 0 {
		was, key = "jobs", "id"
	}
	var parts []string
	for _, part := range []struct{ table, key, was, wasKey string }{{"jobs", "id", "jobs", "id"}, {"specs", "job", was, key}} {
		names, err := carriedColumns(conn, part.table, part.was)
		if err != nil {
			return err
		}
		parts = append(parts, fmt.Sprintf("INSERT INTO main.%[1]s (%[2]s, %[5]s) SELECT %[4]s, %[5]s FROM old.%[3]s WHERE %[4]s > ? AND %[4]s <= ? ORDER BY %[4]s",
			part.table, part.key, part.was, part.wasKey, strings.TrimPrefix(names, part.key+", ")))
	}
	var all, first, last, done int64
	if err := conn.QueryRowContext(background, "SELECT count(*), coalesce(min(id), 1), coalesce(max(id), 0) FROM old.jobs").Scan(&all, &first, &last); err != nil {
		return err
	}
	for from := first - 1; from < last; {
		upTo := from + carriedAtOnce
		if gap, err := nextID(conn, from); err != nil {
			return err
		} else if gap > upTo { // ids go on far above where a file was copied
			from = gap - 1
			continue
		}
		for i, text := range parts {
			result, err := conn.ExecContext(background, text, from, upTo)
			if err != nil {
				return err
			}
			if n, err := result.RowsAffected(); err == nil && i == 0 {
				done += n
			}
		}
		if from = upTo; s.opening.Moved != nil {
			s.opening.Moved(done, all)
		}
	}
	var there int64
	if err := conn.QueryRowContext(background, "SELECT count(*) FROM main.jobs JOIN main.specs ON job = id").Scan(&there); err != nil {
		return err
	}
	if there != all {
		return fmt.Errorf("of %d jobs %d were carried over", all, there)
	}
	return nil
}

func nextID(conn *sql.Conn, after int64) (id int64, err error) {
	err = conn.QueryRowContext(background, "SELECT coalesce(min(id), 0) FROM old.jobs WHERE id > ?", after).Scan(&id)
	return id, err
}
