-- What failures have in common: their errors without the parts that vary.
CREATE TABLE causes (
    id         INTEGER PRIMARY KEY,             -- a hash of the rules' version, type and template
    error_type TEXT    NOT NULL,
    template   TEXT    NOT NULL,
    texts      TEXT    NOT NULL DEFAULT '[]',   -- the latest distinct messages, latest first, as JSON
    job        INTEGER NOT NULL,                -- the latest job
    total      INTEGER NOT NULL DEFAULT 0,      -- failed attempts ever
    first_at   INTEGER NOT NULL,
    last_at    INTEGER NOT NULL
);

-- How many jobs are in backoff or dead by a cause, kept in the jobs' own transactions.
CREATE TABLE cause_counts (
    cause   INTEGER NOT NULL,
    state   INTEGER NOT NULL,
    queue   INTEGER NOT NULL,
    task    INTEGER NOT NULL,
    version TEXT    NOT NULL,                   -- of the worker program that failed
    n       INTEGER NOT NULL,
    PRIMARY KEY (cause, state, queue, task, version)
) WITHOUT ROWID;

-- Failed attempts of a cause by the hour (hours since 1970 UTC) and the version of the
-- worker program that failed.
CREATE TABLE cause_hours (
    cause   INTEGER NOT NULL,
    hour    INTEGER NOT NULL,
    version TEXT    NOT NULL,
    n       INTEGER NOT NULL,
    PRIMARY KEY (cause, hour, version)
) WITHOUT ROWID;
CREATE INDEX cause_hours_old ON cause_hours (hour);
CREATE INDEX causes_old ON causes (last_at);

-- When a version of a worker program was seen first: a deploy.
CREATE INDEX workers_version ON workers (version, first_seen);

CREATE INDEX jobs_removed_by ON jobs (removed_by, id) WHERE removed_by <> 0;

-- Unfinished jobs by their keys, of which an earlier one may answer for a new one.
CREATE INDEX jobs_key_open ON jobs (key, task, id) WHERE key <> '' AND state < 6 AND removed_by = 0;

CREATE INDEX jobs_cause ON jobs (cause, id) WHERE cause <> 0 AND state IN (5, 9) AND removed_by = 0;

CREATE VIEW v_causes AS
SELECT c.id, c.error_type, c.template, s.name AS state, q.name AS queue, t.name AS task, nullif(n.version, '') AS version, n.n AS jobs,
    strftime('%Y-%m-%dT%H:%M:%fZ', c.first_at / 1000.0, 'unixepoch') AS first_at,
    strftime('%Y-%m-%dT%H:%M:%fZ', c.last_at  / 1000.0, 'unixepoch') AS last_at
FROM cause_counts n JOIN causes c ON c.id = n.cause JOIN states s ON s.id = n.state JOIN queues q ON q.id = n.queue JOIN tasks t ON t.id = n.task
WHERE n.n > 0;

-- How many finished jobs were removed because they had been kept long enough.
CREATE TABLE past_counts (
    queue INTEGER NOT NULL,
    task  INTEGER NOT NULL,
    state INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    PRIMARY KEY (queue, task, state)
) WITHOUT ROWID;

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

-- Keys of jobs that were removed after they had been kept long enough answer on, for at
-- most 30 days since their enqueue.
CREATE INDEX keys_age ON keys (enqueued_at, task, key, job);
