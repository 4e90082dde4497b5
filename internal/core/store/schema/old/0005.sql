-- Rules that enqueue jobs again and again. next_at is the next planned time, 0 for none;
-- last, waiting and behind are jobs: of the latest run, of one that waits, and the one it
-- waits for.
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
    behind    INTEGER NOT NULL DEFAULT 0
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

-- The schedule that has enqueued a job; 0 for none.
ALTER TABLE jobs ADD COLUMN schedule INTEGER NOT NULL DEFAULT 0;

CREATE VIEW v_schedules AS
SELECT name, body, version, runs, nullif(last, 0) AS last_job,
    CASE WHEN next_at   > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', next_at   / 1000.0, 'unixepoch') END AS next_at,
    CASE WHEN paused_at > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', paused_at / 1000.0, 'unixepoch') END AS paused_at
FROM schedules;

CREATE VIEW v_schedule_runs AS
SELECT s.name, r.n, nullif(r.job, 0) AS job, nullif(r.reason, '') AS reason, r.times, st.name AS ended,
    strftime('%Y-%m-%dT%H:%M:%fZ', r.planned_at / 1000.0, 'unixepoch') AS planned_at,
    CASE WHEN r.started_at > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', r.started_at / 1000.0, 'unixepoch') END AS started_at
FROM schedule_runs r JOIN schedules s ON s.id = r.schedule LEFT JOIN states st ON st.id = r.state;
