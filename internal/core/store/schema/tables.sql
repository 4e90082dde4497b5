-- Times are milliseconds since 1970 UTC; 0 means none. Spans end in _ms.
-- Texts that may be absent are empty. Every id below is an integer.

-- One row per fact of the whole file: store (its id), next_job, and others.
CREATE TABLE facts (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;

-- The states' numbers and words, for people who read this file.
CREATE TABLE states (
    id   INTEGER PRIMARY KEY,
    name TEXT NOT NULL
);
INSERT INTO states VALUES
    (1, 'held'), (2, 'scheduled'), (3, 'ready'), (4, 'running'), (5, 'backoff'),
    (6, 'done'), (7, 'skipped'), (8, 'cancelled'), (9, 'dead');

-- version is how often the settings were set; walked is where the walk stands that gives
-- the queue's waiting jobs places by a new order: the last id it has looked at; -1: none.
-- idle_since is since when there have been neither jobs nor settings, 0 where there are;
-- made_by is whose token made the name.
CREATE TABLE queues (
    id         INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    next_rank  INTEGER NOT NULL DEFAULT 1,
    settings   TEXT    NOT NULL DEFAULT '{}',
    paused_at  INTEGER NOT NULL DEFAULT 0,
    paused_by  TEXT    NOT NULL DEFAULT '',
    created_at INTEGER NOT NULL,
    version    INTEGER NOT NULL DEFAULT 0,
    walked     INTEGER NOT NULL DEFAULT -1,
    idle_since INTEGER NOT NULL DEFAULT 0,
    made_by    TEXT    NOT NULL DEFAULT ''
);

CREATE TABLE tasks (
    id         INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    settings   TEXT    NOT NULL DEFAULT '{}',
    created_at INTEGER NOT NULL,
    version    INTEGER NOT NULL DEFAULT 0,
    idle_since INTEGER NOT NULL DEFAULT 0,
    made_by    TEXT    NOT NULL DEFAULT ''
);

-- One row per distinct policy (retry, max_attempts, timeout), as JSON.
CREATE TABLE policies (
    id   INTEGER PRIMARY KEY,
    body TEXT NOT NULL UNIQUE
);

-- Worker processes, so that attempts can name them. wanted is what one was asked to do:
-- empty, drain or leave. It outlives a restart of the service, so that a worker that was
-- drained stays so.
CREATE TABLE workers (
    id         INTEGER PRIMARY KEY,
    uid        TEXT    NOT NULL UNIQUE,
    name       TEXT    NOT NULL DEFAULT '',
    host       TEXT    NOT NULL DEFAULT '',
    pid        INTEGER NOT NULL DEFAULT 0,
    version    TEXT    NOT NULL DEFAULT '',
    first_seen INTEGER NOT NULL,
    wanted     TEXT    NOT NULL DEFAULT '',
    last_seen  INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX workers_seen ON workers (last_seen);
-- When a version of a worker program was seen first, and which one the workers of a name had
-- last: another one is a deployment.
CREATE INDEX workers_version ON workers (version, first_seen);
CREATE INDEX workers_name ON workers (name, first_seen) WHERE version <> '';
CREATE INDEX workers_called ON workers (name, id) WHERE name <> '';

-- Where a job stands: what changes while it lives, and what its indexes need. A change
-- rewrites the row, so that what is written once stands in specs.
CREATE TABLE jobs (
    id              INTEGER PRIMARY KEY,
    queue           INTEGER NOT NULL,
    task            INTEGER NOT NULL,
    state           INTEGER NOT NULL,
    level           INTEGER NOT NULL,            -- taken highest first,
    rank            INTEGER NOT NULL DEFAULT 0,  -- then lowest; 0: not drawn yet
    enqueued_at     INTEGER NOT NULL,
    ready_at        INTEGER NOT NULL DEFAULT 0,
    attempt         INTEGER NOT NULL DEFAULT 0,
    tries           INTEGER NOT NULL DEFAULT 0,
    round           INTEGER NOT NULL DEFAULT 1,
    started_at      INTEGER NOT NULL DEFAULT 0,  -- first start of the round
    finished_at     INTEGER NOT NULL DEFAULT 0,
    worker          INTEGER NOT NULL DEFAULT 0,  -- of the latest attempt
    token           INTEGER NOT NULL DEFAULT 0,  -- of the live lease; of a done job: of its
    leased_at       INTEGER NOT NULL DEFAULT 0,  -- last attempt, where that is no row of attempts
    lease_ms        INTEGER NOT NULL DEFAULT 0,
    run_ms          INTEGER NOT NULL DEFAULT 0,  -- of that attempt
    next_at         INTEGER NOT NULL DEFAULT 0,
    start_by        INTEGER NOT NULL DEFAULT 0,
    cancel_asked_at INTEGER NOT NULL DEFAULT 0,
    cause           INTEGER NOT NULL DEFAULT 0,
    schedule        INTEGER NOT NULL DEFAULT 0,  -- that has enqueued it
    operation       INTEGER NOT NULL DEFAULT 0,  -- that has requeued it, of an action on many
    removed_by      INTEGER NOT NULL DEFAULT 0,  -- the action that removed it
    removed_at      INTEGER NOT NULL DEFAULT 0,  -- how long the file was served then, in ms
    turn            INTEGER NOT NULL DEFAULT 0,  -- whether it waits by turns of its queue's owners
    owner           TEXT    NOT NULL DEFAULT '',
    lane            TEXT    NOT NULL DEFAULT '',
    key             TEXT    NOT NULL DEFAULT '',
    reason          TEXT    NOT NULL DEFAULT '',
    reason_text     TEXT    NOT NULL DEFAULT '',
    unmet           INTEGER NOT NULL DEFAULT 0,  -- how many jobs, or the batch, it still waits for
    awaited         INTEGER NOT NULL DEFAULT 0,  -- bits: 1, jobs wait or waited for it; 2, the last job of its batch does
    host            INTEGER NOT NULL DEFAULT 0   -- a hash of the host that it calls; 0: a worker does it
);

-- What was asked for: written when the job is enqueued, edited or requeued.
CREATE TABLE specs (
    job           INTEGER PRIMARY KEY,
    policy        INTEGER NOT NULL,
    priority      INTEGER NOT NULL,
    run_at        INTEGER NOT NULL DEFAULT 0,
    payload_bytes INTEGER NOT NULL DEFAULT 0,
    dedupe        TEXT    NOT NULL DEFAULT '',
    labels        TEXT    NOT NULL DEFAULT '',
    traceparent   TEXT    NOT NULL DEFAULT '',
    batch         INTEGER NOT NULL DEFAULT 0,   -- that it is a member of
    after         INTEGER NOT NULL DEFAULT 0,   -- how it waits for others: 1 for their being done, 2 so too, and else it is cancelled, 3 for any end
    ref           TEXT    NOT NULL DEFAULT '',  -- its name within its batch
    payload       BLOB                          -- to 512 bytes; longer ones in bodies
);
CREATE INDEX specs_batch ON specs (batch, job) WHERE batch <> 0;
CREATE INDEX specs_ref   ON specs (batch, ref) WHERE ref <> '';

-- Every index costs each write of a job something, whether the job is in it or not: there
-- are no more than are needed. None but the first two is rewritten when a plain job is
-- taken, and running jobs have one of their own, which is small.
CREATE INDEX jobs_listed   ON jobs (queue, task, state, id) WHERE state <> 4 AND removed_by = 0;
CREATE INDEX jobs_ready    ON jobs (queue, task, level DESC, rank, id) WHERE state = 3 AND removed_by = 0;
CREATE INDEX jobs_running  ON jobs (queue, task, id) WHERE state = 4 AND removed_by = 0;
CREATE INDEX jobs_due      ON jobs (next_at, id) WHERE state IN (2, 5) AND removed_by = 0;
CREATE INDEX jobs_turn     ON jobs (queue, task, level DESC, owner, rank, id) WHERE state = 3 AND turn = 1 AND removed_by = 0;
CREATE INDEX jobs_lane     ON jobs (queue, lane, rank, id) WHERE state = 1 AND lane <> '' AND removed_by = 0;
CREATE INDEX jobs_start_by ON jobs (start_by, id) WHERE start_by > 0 AND started_at = 0 AND state IN (1, 2, 3) AND removed_by = 0;
CREATE INDEX jobs_cause    ON jobs (cause, id) WHERE cause <> 0 AND state IN (5, 9) AND removed_by = 0;
-- A job never changes its place among those of its owner unless it is edited.
CREATE INDEX jobs_owner ON jobs (owner, id) WHERE owner <> '' AND removed_by = 0;
-- What a worker runs, or ran last.
CREATE INDEX jobs_worker ON jobs (worker, id) WHERE worker <> 0 AND removed_by = 0;
-- Finished jobs in the order in which they are no longer kept; those for which others may wait are
-- kept for longer.
CREATE INDEX jobs_finished ON jobs (queue, state, finished_at, id) WHERE state > 5 AND removed_by = 0 AND awaited = 0;
-- What of a schedule is unfinished, and which of its runs have died because the next one
-- took their place.
CREATE INDEX jobs_of_schedule ON jobs (schedule, state, id) WHERE schedule <> 0 AND (state < 6 OR state = 9 AND reason = 'superseded') AND removed_by = 0;
-- What dedupe asks for: the newest job of a task with a key that is unfinished, whether it
-- was started or not, or that was enqueued since a time.
CREATE INDEX jobs_key    ON jobs (key, id) WHERE key <> '' AND removed_by = 0;
CREATE INDEX jobs_open   ON jobs (task, key, started_at > 0, id) WHERE key <> '' AND state < 6 AND removed_by = 0;
CREATE INDEX jobs_recent ON jobs (task, key, enqueued_at, id) WHERE key <> '' AND state NOT IN (8, 9) AND removed_by = 0;
-- Jobs that call a host, which are held or ready.
CREATE INDEX jobs_calling ON jobs (host, state, id) WHERE host <> 0 AND state IN (1, 3) AND removed_by = 0;
CREATE INDEX jobs_removed    ON jobs (removed_at, id) WHERE removed_by <> 0;
CREATE INDEX jobs_removed_by ON jobs (removed_by, id) WHERE removed_by <> 0;
CREATE INDEX jobs_removed_of ON jobs (queue, task) WHERE removed_by <> 0;

-- Ended attempts, but for the last one of a done job that left nothing but its times: that
-- one stays in its job's row, as the running one does.
CREATE TABLE attempts (
    job           INTEGER NOT NULL,
    n             INTEGER NOT NULL,
    round         INTEGER NOT NULL,
    worker        INTEGER NOT NULL,
    token         INTEGER NOT NULL,
    started_at    INTEGER NOT NULL,
    ended_at      INTEGER NOT NULL,
    run_ms        INTEGER NOT NULL DEFAULT 0,
    outcome       TEXT    NOT NULL,
    counted       INTEGER NOT NULL,
    error_type    TEXT    NOT NULL DEFAULT '',
    error_message TEXT    NOT NULL DEFAULT '',
    percent       REAL    NOT NULL DEFAULT -1,  -- how far it had come; -1: never told
    note          TEXT    NOT NULL DEFAULT '',
    log_lines     INTEGER NOT NULL DEFAULT 0,   -- how many lines it wrote
    PRIMARY KEY (job, n)
) WITHOUT ROWID;

-- Long values beside the rows: payloads over 512 bytes, results, stacks.
-- kind: 1 payload, 2 result, 3 stack of attempt n, 5 payload before action n, 6 what was refused.
CREATE TABLE bodies (
    job   INTEGER NOT NULL,
    kind  INTEGER NOT NULL,
    n     INTEGER NOT NULL DEFAULT 0,
    bytes BLOB    NOT NULL,
    PRIMARY KEY (job, kind, n)
);

-- Lines that handlers wrote: of each attempt the first 100 and the last 400.
CREATE TABLE log_lines (
    job     INTEGER NOT NULL,
    attempt INTEGER NOT NULL,
    n       INTEGER NOT NULL,
    at      INTEGER NOT NULL,
    text    TEXT    NOT NULL,
    PRIMARY KEY (job, attempt, n)
) WITHOUT ROWID;

-- Results that are not kept as long as their job.
CREATE TABLE results_kept (
    job   INTEGER PRIMARY KEY,
    until INTEGER NOT NULL
);
CREATE INDEX results_kept_until ON results_kept (until, job);

-- Parts of a job's work that are done once, whatever attempt does them.
CREATE TABLE steps (
    job      INTEGER NOT NULL,
    name     TEXT    NOT NULL,
    attempt  INTEGER NOT NULL,            -- that has begun it last
    begun_at INTEGER NOT NULL,
    done_at  INTEGER NOT NULL DEFAULT 0,  -- 0: begun, and whether it was done is in doubt
    result   BLOB,
    PRIMARY KEY (job, name)
);
CREATE INDEX steps_in_doubt ON steps (job) WHERE done_at = 0;

-- Which job waits for which other. stands: 0 unmet, 1 met, 2 dropped by an operator, 3 what it waits for
-- was deleted unmet, which was at gone; 4 is added while the job that waits is finished, or removed.
-- wants is as specs.after.
CREATE TABLE edges (
    job    INTEGER NOT NULL,
    needs  INTEGER NOT NULL,
    stands INTEGER NOT NULL,
    wants  INTEGER NOT NULL,
    gone   INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (job, needs)
) WITHOUT ROWID;
CREATE INDEX edges_needs ON edges (needs, stands, wants, job);
CREATE INDEX edges_gone  ON edges (gone, job) WHERE gone <> 0 AND stands < 4;

-- Jobs that have ended, of which not all that wait for them have been told; and batches that have, of
-- which not all jobs are free to go. upto is the last job that can have waited.
CREATE TABLE endings (
    id   INTEGER PRIMARY KEY,
    of   INTEGER NOT NULL,
    how  INTEGER NOT NULL,
    upto INTEGER NOT NULL
);

-- Jobs that belong together. last is the job that waits for all others, and waits whether it still
-- does. idle tells that no job of it is ready, running, or waits for a time.
CREATE TABLE batches (
    id          INTEGER PRIMARY KEY,   -- from the same counter as those of jobs
    name        TEXT    NOT NULL,
    owner       TEXT    NOT NULL DEFAULT '',
    labels      TEXT    NOT NULL DEFAULT '',
    made_at     INTEGER NOT NULL,
    made_by     TEXT    NOT NULL,
    open        INTEGER NOT NULL DEFAULT 0,
    last        INTEGER NOT NULL DEFAULT 0,
    waits       INTEGER NOT NULL DEFAULT 0,
    jobs        INTEGER NOT NULL DEFAULT 0,
    gone        INTEGER NOT NULL DEFAULT 0,   -- of them, that are no longer kept
    state       INTEGER NOT NULL DEFAULT 0,
    idle        INTEGER NOT NULL DEFAULT 0,
    finished_at INTEGER NOT NULL DEFAULT 0,
    notify      TEXT    NOT NULL DEFAULT ''   -- who is told of its end, as JSON
);
CREATE INDEX batches_state ON batches (state, idle, id);
CREATE INDEX batches_name  ON batches (name, id) WHERE name <> '';
CREATE INDEX batches_empty ON batches (open, made_at) WHERE jobs = gone;
CREATE INDEX batches_owner ON batches (owner, id) WHERE owner <> '';

-- Jobs of a batch by state, those included that are no longer kept.
CREATE TABLE batch_counts (
    batch INTEGER NOT NULL,
    state INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    PRIMARY KEY (batch, state)
) WITHOUT ROWID;

-- Jobs by queue, task and state, kept in the same transaction as the jobs.
CREATE TABLE counts (
    queue INTEGER NOT NULL,
    task  INTEGER NOT NULL,
    state INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    PRIMARY KEY (queue, task, state)
) WITHOUT ROWID;

-- Jobs by owner and state, of those that have one.
CREATE TABLE owner_counts (
    owner TEXT    NOT NULL,
    state INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    PRIMARY KEY (owner, state)
) WITHOUT ROWID;

-- Which jobs have a label; label is a hash of its name and value.
CREATE TABLE labelled (
    label INTEGER NOT NULL,
    job   INTEGER NOT NULL,
    PRIMARY KEY (label, job)
) WITHOUT ROWID;

-- Which ids were given within a minute (minutes since 1970 UTC): the first and the last. Where the
-- clock was set back others are among them.
CREATE TABLE issued (
    minute INTEGER PRIMARY KEY,
    first  INTEGER NOT NULL,
    last   INTEGER NOT NULL
);

-- Labels that are followed, and how many jobs have each, by state. Jobs from the id first on are
-- counted, and those before it up to walked; first is 0 once all are.
CREATE TABLE follows (
    name    TEXT PRIMARY KEY,
    label   TEXT    NOT NULL,
    value   TEXT    NOT NULL,
    made_at INTEGER NOT NULL,
    made_by TEXT    NOT NULL,
    first   INTEGER NOT NULL,
    walked  INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE follow_counts (
    name  TEXT    NOT NULL,
    state INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    PRIMARY KEY (name, state)
) WITHOUT ROWID;

-- Who has shown a token to the console, and shows a secret since: hash and token are SHA-256 of the
-- secret and of the token. ends_at is when it ends by itself.
CREATE TABLE sessions (
    id        INTEGER PRIMARY KEY,
    hash      TEXT    NOT NULL,
    token     TEXT    NOT NULL,
    principal TEXT    NOT NULL,
    made_at   INTEGER NOT NULL,
    seen_at   INTEGER NOT NULL,
    ends_at   INTEGER NOT NULL,
    address   TEXT    NOT NULL,
    agent     TEXT    NOT NULL
);

-- Other stores, of which jobs were imported. Ids below a number are kept, 0 where all are given new
-- ones; ranks is how much was added to the ranks of a queue's jobs, as JSON by the queues' names.
CREATE TABLE imports (
    id      INTEGER PRIMARY KEY,
    store   TEXT    NOT NULL UNIQUE,
    below   INTEGER NOT NULL,
    made_at INTEGER NOT NULL,
    made_by TEXT    NOT NULL,
    jobs    INTEGER NOT NULL DEFAULT 0,
    ranks   TEXT    NOT NULL DEFAULT '{}'
);

-- Which jobs they have become: those from the id first to last there are here job, and the ones that
-- follow it. A line outlives the jobs, so that none is imported twice.
CREATE TABLE imported (
    import INTEGER NOT NULL,
    first  INTEGER NOT NULL,
    last   INTEGER NOT NULL,
    job    INTEGER NOT NULL,
    PRIMARY KEY (import, first)
) WITHOUT ROWID;
CREATE INDEX imported_job ON imported (job);

-- Addresses for messages of ends of jobs. paused_at is since when none is sent; failing_since since when none
-- was taken.
CREATE TABLE endpoints (
    name          TEXT PRIMARY KEY,
    body          TEXT    NOT NULL,
    version       INTEGER NOT NULL DEFAULT 1,
    made_at       INTEGER NOT NULL,
    paused_at     INTEGER NOT NULL DEFAULT 0,
    paused_by     TEXT    NOT NULL DEFAULT '',
    paused_why    TEXT    NOT NULL DEFAULT '',
    delivered     INTEGER NOT NULL DEFAULT 0,
    failed        INTEGER NOT NULL DEFAULT 0,
    missed        INTEGER NOT NULL DEFAULT 0,
    failing_since INTEGER NOT NULL DEFAULT 0,
    last_at       INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;

-- Alerts, as JSON. over_at is when one was over, 0 while it is not.
CREATE TABLE alerts (
    id      INTEGER PRIMARY KEY,
    over_at INTEGER NOT NULL DEFAULT 0,
    body    TEXT    NOT NULL
);

-- Hosts that gave no answer to calls, by the hash of their names: since when, at how many calls in a row, and
-- when one is tried next. Jobs to them are held meanwhile.
CREATE TABLE silent_hosts (
    host     INTEGER PRIMARY KEY,
    name     TEXT    NOT NULL,
    since    INTEGER NOT NULL,
    failed   INTEGER NOT NULL,
    probe_at INTEGER NOT NULL,
    why      TEXT    NOT NULL DEFAULT ''
);

-- Addresses that take webhooks, and what was delivered there: both as JSON.
CREATE TABLE hooks (
    name    TEXT PRIMARY KEY,
    body    TEXT    NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    made_at INTEGER NOT NULL,
    counts  TEXT    NOT NULL DEFAULT '{}'
) WITHOUT ROWID;

-- Deliveries that were taken, and the jobs that they became. They are known again by a hash of the hook's
-- name and the id that the sender gave them, where they have one; body is a hash of the body.
CREATE TABLE deliveries (
    id        INTEGER PRIMARY KEY,
    hook      TEXT    NOT NULL,
    at        INTEGER NOT NULL,
    job       INTEGER NOT NULL,
    sender    TEXT    NOT NULL DEFAULT '',   -- the id that the sender gave it
    mark      BLOB,
    body      BLOB    NOT NULL,
    times     INTEGER NOT NULL DEFAULT 1,
    differing INTEGER NOT NULL DEFAULT 0,    -- of these, with another body
    last_at   INTEGER NOT NULL
);
CREATE UNIQUE INDEX deliveries_mark ON deliveries (mark) WHERE mark IS NOT NULL;
CREATE INDEX deliveries_hook ON deliveries (hook, id);

-- How many finished jobs were removed because they had been kept long enough.
CREATE TABLE past_counts (
    queue INTEGER NOT NULL,
    task  INTEGER NOT NULL,
    state INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    PRIMARY KEY (queue, task, state)
) WITHOUT ROWID;

-- Keys for deduplication outlive the jobs they belong to, for at most 30 days since their
-- enqueue.
CREATE TABLE keys (
    task        INTEGER NOT NULL,
    key         TEXT    NOT NULL,
    job         INTEGER NOT NULL,
    enqueued_at INTEGER NOT NULL,
    PRIMARY KEY (task, key, job)
) WITHOUT ROWID;
CREATE INDEX keys_age ON keys (enqueued_at, task, key, job);
CREATE INDEX keys_recent ON keys (task, key, enqueued_at, job);

-- Lanes that are taken, and by which job.
CREATE TABLE lanes (
    queue INTEGER NOT NULL,
    lane  TEXT    NOT NULL,
    job   INTEGER NOT NULL,
    PRIMARY KEY (queue, lane)
) WITHOUT ROWID;

-- Owners whose turns are kept. The active ones have ready jobs; of these the lowest tag
-- goes first.
CREATE TABLE turns (
    queue  INTEGER NOT NULL,
    task   INTEGER NOT NULL,
    level  INTEGER NOT NULL,
    owner  TEXT    NOT NULL,
    tag    INTEGER NOT NULL,
    active INTEGER NOT NULL,
    PRIMARY KEY (queue, task, level, owner)
) WITHOUT ROWID;
CREATE INDEX turns_next ON turns (queue, task, level DESC, tag, owner) WHERE active = 1;
CREATE INDEX turns_idle ON turns (queue, level, tag) WHERE active = 0;

-- What operators did, by whom, when.
CREATE TABLE actions (
    id        INTEGER PRIMARY KEY,
    at        INTEGER NOT NULL,
    principal TEXT    NOT NULL,
    action    TEXT    NOT NULL,
    job       INTEGER NOT NULL DEFAULT 0,
    detail    TEXT    NOT NULL DEFAULT '{}'
);
CREATE INDEX actions_job ON actions (job, id) WHERE job <> 0;
CREATE INDEX actions_at ON actions (at, id) WHERE job = 0;

-- Actions on many jobs, done in slices.
CREATE TABLE operations (
    id         INTEGER PRIMARY KEY,
    action     INTEGER NOT NULL,
    state      TEXT    NOT NULL,
    filter     TEXT    NOT NULL,
    matched    INTEGER NOT NULL DEFAULT 0,
    changed    INTEGER NOT NULL DEFAULT 0,
    refused    INTEGER NOT NULL DEFAULT 0,
    undo_until INTEGER NOT NULL DEFAULT 0,
    position   TEXT    NOT NULL DEFAULT ''
);
CREATE INDEX operations_action ON operations (action);

-- What became of the jobs that an operation has requeued.
CREATE TABLE operation_counts (
    operation INTEGER NOT NULL,
    state     INTEGER NOT NULL,
    n         INTEGER NOT NULL,
    PRIMARY KEY (operation, state)
) WITHOUT ROWID;

-- Receipts of Idempotency-Keys, packed, a row per commit. What is promised for a while
-- counts the time in which the file is served, in ms: neither a stop nor a jump of the wall
-- clock uses it up.
CREATE TABLE receipts (
    id      INTEGER PRIMARY KEY,
    at      INTEGER NOT NULL,
    entries BLOB    NOT NULL,
    served  INTEGER NOT NULL DEFAULT 0
);

-- What failures have in common: their errors without the parts that vary.
CREATE TABLE causes (
    id         INTEGER PRIMARY KEY,             -- a hash of the rules' version, type and template
    error_type TEXT    NOT NULL,
    template   TEXT    NOT NULL,
    job        INTEGER NOT NULL,                -- the latest job
    total      INTEGER NOT NULL DEFAULT 0,      -- failed attempts ever
    first_at   INTEGER NOT NULL,
    last_at    INTEGER NOT NULL
);
CREATE INDEX causes_old ON causes (last_at);

-- The latest distinct messages of a cause, latest first, as JSON: by the queue and the task of
-- the jobs that failed, since who may read of one may not read of all.
CREATE TABLE cause_texts (
    cause INTEGER NOT NULL,
    queue INTEGER NOT NULL,
    task  INTEGER NOT NULL,
    texts TEXT    NOT NULL,
    job   INTEGER NOT NULL,                     -- the latest job
    at    INTEGER NOT NULL,
    PRIMARY KEY (cause, queue, task)
) WITHOUT ROWID;

-- Which words the failures of the jobs of a block hold (4096 ids): hashes of four bytes in
-- ascending order. A block has few parts, of which words are added to in turn.
CREATE TABLE failed_words (
    block INTEGER NOT NULL,
    part  INTEGER NOT NULL,
    words BLOB    NOT NULL,
    PRIMARY KEY (block, part)
);

-- The words of the latest failures, packed, a row per commit, until many are added at once.
CREATE TABLE late_words (
    id      INTEGER PRIMARY KEY,
    n       INTEGER NOT NULL,
    entries BLOB    NOT NULL
);

-- How many jobs are in backoff or dead by a cause, kept in the jobs' own transactions.
CREATE TABLE cause_counts (
    cause   INTEGER NOT NULL,
    state   INTEGER NOT NULL,
    queue   INTEGER NOT NULL,
    task    INTEGER NOT NULL,
    version TEXT    NOT NULL,                   -- of the worker program that failed,
    host    TEXT    NOT NULL,                   -- and where
    n       INTEGER NOT NULL,
    PRIMARY KEY (cause, state, queue, task, version, host)
) WITHOUT ROWID;

-- Rules that enqueue jobs again and again. next_at is the next planned time, 0 for none;
-- last, waiting and behind are jobs: of the latest run, of one that waits, and the one it
-- waits for. failed is how many runs have failed in a row, last_done when one was last done.
CREATE TABLE schedules (
    id        INTEGER PRIMARY KEY,
    name      TEXT    NOT NULL UNIQUE,
    body      TEXT    NOT NULL,            -- the rule, as JSON
    version   INTEGER NOT NULL DEFAULT 1,
    made_at   INTEGER NOT NULL,
    paused_at INTEGER NOT NULL DEFAULT 0,
    paused_by TEXT    NOT NULL DEFAULT '',
    next_at   INTEGER NOT NULL DEFAULT 0,
    runs      INTEGER NOT NULL DEFAULT 0,
    last      INTEGER NOT NULL DEFAULT 0,
    waiting   INTEGER NOT NULL DEFAULT 0,
    behind    INTEGER NOT NULL DEFAULT 0,
    failed    INTEGER NOT NULL DEFAULT 0,
    last_done INTEGER NOT NULL DEFAULT 0
);

-- Planned times and what became of them. No planned time comes twice.
CREATE TABLE schedule_runs (
    id          INTEGER PRIMARY KEY,
    schedule    INTEGER NOT NULL,
    planned_at  INTEGER NOT NULL,
    n           INTEGER NOT NULL DEFAULT 0,   -- 0: nothing was enqueued
    asked       INTEGER NOT NULL DEFAULT 0,   -- somebody ran it now
    job         INTEGER NOT NULL DEFAULT 0,
    enqueued_at INTEGER NOT NULL DEFAULT 0,
    started_at  INTEGER NOT NULL DEFAULT 0,
    finished_at INTEGER NOT NULL DEFAULT 0,
    state       INTEGER NOT NULL DEFAULT 0,   -- in which its job has ended
    reason      TEXT    NOT NULL DEFAULT '',
    times       INTEGER NOT NULL DEFAULT 1,   -- how many planned times the line stands for
    UNIQUE (schedule, planned_at)
);
CREATE INDEX schedule_runs_job ON schedule_runs (job) WHERE job <> 0;

-- What moved, packed, a row per commit, until it is folded into history; then its slot is used
-- again. A row tells its own number and time.
CREATE TABLE deltas (
    slot  INTEGER PRIMARY KEY,
    moved BLOB    NOT NULL
);

-- What history tells apart, by kind: 0 queues, 1 tasks, 2 versions of worker programs, 3 hosts,
-- 4 labels. They outlive what they are named after, and no number is given twice.
CREATE TABLE series (
    id   INTEGER PRIMARY KEY,
    kind INTEGER NOT NULL,
    name TEXT    NOT NULL,
    seen INTEGER NOT NULL,             -- when something of it moved last, to a day
    UNIQUE (kind, name)
);
CREATE INDEX series_seen ON series (kind, seen);

-- What moved within a minute, an hour or a day (step 0, 1, 2) from a time on, packed, of all
-- series of a kind; kind 5 are failures. Hours and days are those of UTC.
CREATE TABLE history (
    kind   INTEGER NOT NULL,
    step   INTEGER NOT NULL,
    at     INTEGER NOT NULL,
    counts BLOB    NOT NULL,
    spans  BLOB    NOT NULL,           -- how long things took
    PRIMARY KEY (kind, step, at)
) WITHOUT ROWID;

-- Moments that are drawn on charts, but for those that the actions tell: deployments, starts of
-- the service, and what somebody has noted. since is when the service was stopped before.
CREATE TABLE marks (
    id        INTEGER PRIMARY KEY,
    at        INTEGER NOT NULL,
    kind      TEXT    NOT NULL,
    text      TEXT    NOT NULL,
    principal TEXT    NOT NULL DEFAULT '',
    since     INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX marks_at ON marks (at);

-- The latest starts of each queue, packed, as they were at the last fold.
CREATE TABLE starts (
    queue  INTEGER PRIMARY KEY,
    latest BLOB NOT NULL
);
