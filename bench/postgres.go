package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"humblemule.example/internal/measure"
)

// loops is PostgreSQL with a table of jobs and the usual loop over it: insert, take with FOR
// UPDATE SKIP LOCKED, update. It is what one would do without a service of this kind. Its
// clients use the driver, in this process, and commit synchronously.
type loops struct {
	cmd *exec.Cmd
	db  *pgxpool.Pool
}

// loopClients are how many clients the loop has at once: more are no faster on two cores.
const loopClients = 8

// loopTable has the columns and the index that such a table needs, and no more.
const loopTable = `CREATE TABLE jobs (
	id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	queue       text NOT NULL,
	task        text NOT NULL,
	priority    int NOT NULL DEFAULT 4,
	state       text NOT NULL DEFAULT 'ready',
	payload     jsonb NOT NULL,
	attempt     int NOT NULL DEFAULT 0,
	worker      text,
	enqueued_at timestamptz NOT NULL DEFAULT now(),
	started_at  timestamptz,
	finished_at timestamptz
);
CREATE INDEX jobs_ready ON jobs (queue, priority DESC, id) WHERE state = 'ready'`

// startLoops starts a PostgreSQL of Debian's packages on a new cluster in a folder.
func startLoops(ctx context.Context, dir string) (*loops, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil || len(found) == 0 {
		return nil, errors.New("PostgreSQL is not installed; as root: apt-get install postgresql")
	}
	bin := found[len(found)-1]
	cluster, err := os.MkdirTemp(dir, "postgres-")
	if err != nil {
		return nil, err
	}
	as, err := other(cluster)
	if err != nil {
		return nil, err
	}
	making := exec.Command(filepath.Join(bin, "initdb"), "--pgdata", cluster, "--username", "bench", "--auth", "trust", "--encoding", "UTF8", "--no-locale")
	making.SysProcAttr, making.Dir = as, cluster
	if out, err := making.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	port := strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
	l.Close()
	p := &loops{cmd: exec.Command(filepath.Join(bin, "postgres"), "-D", cluster, "-p", port, "-k", cluster,
		"-c", "listen_addresses=127.0.0.1", "-c", "fsync=on", "-c", "synchronous_commit=on", "-c", "shared_buffers=256MB", "-c", "max_wal_size=4GB")}
	p.cmd.SysProcAttr, p.cmd.Dir = as, cluster
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	if p.db, err = pgxpool.New(ctx, fmt.Sprintf("postgres://bench@127.0.0.1:%s/postgres?pool_max_conns=%d", port, loopClients)); err != nil {
		p.end()
		return nil, err
	}
	for range 600 {
		if _, err = p.db.Exec(ctx, loopTable); err == nil {
			return p, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.end()
	return nil, fmt.Errorf("PostgreSQL does not answer: %w", err)
}

// other has a command run as another user where this process is root, since PostgreSQL
// refuses that, and gives that user the folder.
func other(cluster string) (*syscall.SysProcAttr, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, err
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(os.Chmod(filepath.Dir(cluster), 0o755), os.Chown(cluster, uid, gid)); err != nil {
		return nil, err
	}
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}, nil
}

func (p *loops) end() {
	if p.db != nil {
		p.db.Close()
	}
	p.cmd.Process.Signal(syscall.SIGINT) // a fast shutdown
	p.cmd.Wait()
}

// clients runs do in all clients until the span is over, and counts the jobs.
func (p *loops) clients(ctx context.Context, do func(ctx context.Context) (int, error)) (int, error) {
	var done atomic.Int64
	var all sync.WaitGroup
	errs := make([]error, loopClients)
	until := time.Now().Add(*span)
	for i := range loopClients {
		all.Go(func() {
			for time.Now().Before(until) && errs[i] == nil {
				var n int
				n, errs[i] = do(ctx)
				done.Add(int64(n))
			}
		})
	}
	all.Wait()
	return int(done.Load()), errors.Join(errs...)
}

const (
	loopInsert = `INSERT INTO jobs (queue, task, payload) SELECT 'common', 'tide.predict', p FROM unnest($1::jsonb[]) p`
	loopTake   = `UPDATE jobs SET state = 'running', attempt = attempt + 1, worker = 'bench', started_at = now()
		WHERE id IN (SELECT id FROM jobs WHERE queue = 'common' AND state = 'ready' ORDER BY priority DESC, id LIMIT $1 FOR UPDATE SKIP LOCKED)
		RETURNING id, task, payload, attempt`
	loopSettle = `UPDATE jobs SET state = 'done', finished_at = now() WHERE id = ANY($1) AND state = 'running'`
)

// lives inserts, takes and ends so many jobs a call, each call a transaction.
func (p *loops) lives(atOnce int) func(context.Context) (int, error) {
	payloads := slices.Repeat([]string{measure.Payload()}, atOnce)
	return func(ctx context.Context) (int, error) {
		return p.clients(ctx, func(ctx context.Context) (int, error) {
			if _, err := p.db.Exec(ctx, loopInsert, payloads); err != nil {
				return 0, err
			}
			rows, err := p.db.Query(ctx, loopTake, atOnce)
			if err != nil {
				return 0, err
			}
			var ids []int64
			for rows.Next() {
				var id int64
				var task, payload string
				var attempt int
				if err := rows.Scan(&id, &task, &payload, &attempt); err != nil {
					return 0, err
				}
				ids = append(ids, id)
			}
			if err := rows.Err(); err != nil {
				return 0, err
			}
			_, err = p.db.Exec(ctx, loopSettle, ids)
			return len(ids), err
		})
	}
}
