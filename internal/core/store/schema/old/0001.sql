-- Times are milliseconds since 1970 UTC; 0 means none. Spans end in _ms.
-- Texts that may be absent are empty. Every id below is an integer.

-- One row per fact of the whole file: store (its id), next_job.
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

CREATE TABLE queues (
    id         INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    next_rank  INTEGER NOT NULL DEFAULT 1,
    settings   TEXT    NOT NULL DEFAULT '{}',
    paused_at  INTEGER NOT NULL DEFAULT 0,
    paused_by  TEXT    NOT NULL DEFAULT '',
    created_at INTEGER NOT NULL
);

CREATE TABLE tasks (
    id         INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    settings   TEXT    NOT NULL DEFAULT '{}',
    created_at INTEGER NOT NULL
);

-- One row per distinct policy (retry, max_attempts, timeout), as JSON.
CREATE TABLE policies (
    id   INTEGER PRIMARY KEY,
    body TEXT NOT NULL UNIQUE
);

-- Worker processes, so that attempts can name them.
CREATE TABLE workers (
    id         INTEGER PRIMARY KEY,
    uid        TEXT    NOT NULL UNIQUE,
    name       TEXT    NOT NULL DEFAULT '',
    host       TEXT    NOT NULL DEFAULT '',
    pid        INTEGER NOT NULL DEFAULT 0,
    version    TEXT    NOT NULL DEFAULT '',
    first_seen INTEGER NOT NULL
);

CREATE TABLE jobs (
    id              INTEGER PRIMARY KEY,
    queue           INTEGER NOT NULL,
    task            INTEGER NOT NULL,
    state           INTEGER NOT NULL,
    priority        INTEGER NOT NULL,
    level           INTEGER NOT NULL,            -- taken highest first,
    rank            INTEGER NOT NULL DEFAULT 0,  -- then lowest; 0: not drawn yet
    round           INTEGER NOT NULL DEFAULT 1,
    attempt         INTEGER NOT NULL DEFAULT 0,
    tries           INTEGER NOT NULL DEFAULT 0,
    policy          INTEGER NOT NULL,
    enqueued_at     INTEGER NOT NULL,
    run_at          INTEGER NOT NULL DEFAULT 0,
    start_by        INTEGER NOT NULL DEFAULT 0,
    ready_at        INTEGER NOT NULL DEFAULT 0,
    started_at      INTEGER NOT NULL DEFAULT 0,  -- first start of the round
    finished_at     INTEGER NOT NULL DEFAULT 0,
    next_at         INTEGER NOT NULL DEFAULT 0,
    cancel_asked_at INTEGER NOT NULL DEFAULT 0,
    worker          INTEGER NOT NULL DEFAULT 0,  -- of the latest attempt
    token           INTEGER NOT NULL DEFAULT 0,  -- of the live lease
    leased_at       INTEGER NOT NULL DEFAULT 0,
    lease_ms        INTEGER NOT NULL DEFAULT 0,
    cause           INTEGER NOT NULL DEFAULT 0,
    removed_by      INTEGER NOT NULL DEFAULT 0,  -- the action that removed it
    removed_at      INTEGER NOT NULL DEFAULT 0,
    payload_bytes   INTEGER NOT NULL DEFAULT 0,
    owner           TEXT    NOT NULL DEFAULT '',
    lane            TEXT    NOT NULL DEFAULT '',
    key             TEXT    NOT NULL DEFAULT '',
    dedupe          TEXT    NOT NULL DEFAULT '',
    labels          TEXT    NOT NULL DEFAULT '',
    traceparent     TEXT    NOT NULL DEFAULT '',
    reason          TEXT    NOT NULL DEFAULT '',
    reason_text     TEXT    NOT NULL DEFAULT '',
    payload         BLOB                         -- to 512 bytes; longer ones in bodies
);
CREATE INDEX jobs_listed ON jobs (queue, task, state, id) WHERE removed_by = 0;
CREATE INDEX jobs_ready  ON jobs (queue, task, level DESC, rank, id) WHERE state = 3 AND removed_by = 0;
CREATE INDEX jobs_due    ON jobs (next_at, id) WHERE state IN (2, 5) AND removed_by = 0;
CREATE INDEX jobs_removed ON jobs (removed_at, id) WHERE removed_by <> 0;
CREATE INDEX jobs_key    ON jobs (key, id) WHERE key <> '' AND removed_by = 0;

-- Ended attempts; the running one stands in its job's row.
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
    PRIMARY KEY (job, n)
) WITHOUT ROWID;

-- Long values beside the rows: payloads over 512 bytes, results, stacks, logs.
-- kind: 1 payload, 2 result, 3 stack of attempt n, 4 log of attempt n.
CREATE TABLE bodies (
    job   INTEGER NOT NULL,
    kind  INTEGER NOT NULL,
    n     INTEGER NOT NULL DEFAULT 0,
    bytes BLOB    NOT NULL,
    PRIMARY KEY (job, kind, n)
);

-- Jobs by queue, task and state, kept in the same transaction as the jobs.
CREATE TABLE counts (
    queue INTEGER NOT NULL,
    task  INTEGER NOT NULL,
    state INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    PRIMARY KEY (queue, task, state)
) WITHOUT ROWID;

-- Keys for deduplication outlive the jobs they belong to.
CREATE TABLE keys (
    task        INTEGER NOT NULL,
    key         TEXT    NOT NULL,
    job         INTEGER NOT NULL,
    enqueued_at INTEGER NOT NULL,
    PRIMARY KEY (task, key, job)
) WITHOUT ROWID;

-- What operators did, by whom, when.
CREATE TABLE actions (
    id        INTEGER PRIMARY KEY,
    at        INTEGER NOT NULL,
    principal TEXT    NOT NULL,
    action    TEXT    NOT NULL,
    job       INTEGER NOT NULL DEFAULT 0,
    detail    TEXT    NOT NULL DEFAULT '{}'
);

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

-- Receipts of Idempotency-Keys, packed, a row per commit.
CREATE TABLE receipts (
    id      INTEGER PRIMARY KEY,
    at      INTEGER NOT NULL,
    entries BLOB    NOT NULL
);

-- What people read with the sqlite3 shell: words for numbers, times in UTC.
CREATE VIEW v_jobs AS
SELECT j.id, s.name AS state, t.name AS task, q.name AS queue, j.priority, j.tries, j.attempt, j.round,
    nullif(j.reason, '') AS reason, nullif(j.reason_text, '') AS reason_text, nullif(j.owner, '') AS owner, nullif(j.key, '') AS key,
    nullif(j.labels, '') AS labels,
    strftime('%Y-%m-%dT%H:%M:%fZ', j.enqueued_at / 1000.0, 'unixepoch') AS enqueued_at,
    CASE WHEN j.ready_at    > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.ready_at    / 1000.0, 'unixepoch') END AS ready_at,
    CASE WHEN j.started_at  > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.started_at  / 1000.0, 'unixepoch') END AS started_at,
    CASE WHEN j.finished_at > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.finished_at / 1000.0, 'unixepoch') END AS finished_at,
    CASE WHEN j.next_at     > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.next_at     / 1000.0, 'unixepoch') END AS next_at,
    j.payload_bytes, CAST(coalesce(j.payload, b.bytes) AS TEXT) AS payload, p.body AS policy
FROM jobs j JOIN states s ON s.id = j.state JOIN tasks t ON t.id = j.task JOIN queues q ON q.id = j.queue JOIN policies p ON p.id = j.policy
    LEFT JOIN bodies b ON b.job = j.id AND b.kind = 1
WHERE j.removed_by = 0;

CREATE VIEW v_attempts AS
SELECT a.job, a.n, a.round, nullif(w.name, '') AS worker, w.host, w.version,
    strftime('%Y-%m-%dT%H:%M:%fZ', a.started_at / 1000.0, 'unixepoch') AS started_at,
    strftime('%Y-%m-%dT%H:%M:%fZ', a.ended_at   / 1000.0, 'unixepoch') AS ended_at,
    a.ended_at - a.started_at AS took_ms, a.outcome, a.counted, nullif(a.error_type, '') AS error_type, nullif(a.error_message, '') AS error_message
FROM attempts a LEFT JOIN workers w ON w.id = a.worker;

CREATE VIEW v_queues AS
SELECT q.name AS queue, t.name AS task, s.name AS state, c.n AS jobs
FROM counts c JOIN queues q ON q.id = c.queue JOIN tasks t ON t.id = c.task JOIN states s ON s.id = c.state
WHERE c.n > 0;

CREATE VIEW v_actions AS
SELECT id, strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') AS at, principal, action, nullif(job, 0) AS job, detail
FROM actions;
