-- What a worker was asked to do: empty, drain or leave. It outlives a restart of
-- the service, so that a worker that was drained stays so.
ALTER TABLE workers ADD COLUMN wanted TEXT NOT NULL DEFAULT '';

-- How far an attempt had come when it ended, and how many lines it wrote.
ALTER TABLE attempts ADD COLUMN percent   REAL    NOT NULL DEFAULT -1;  -- -1: never told
ALTER TABLE attempts ADD COLUMN note      TEXT    NOT NULL DEFAULT '';
ALTER TABLE attempts ADD COLUMN log_lines INTEGER NOT NULL DEFAULT 0;

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

CREATE VIEW v_log AS
SELECT job, attempt, n, strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') AS at, text
FROM log_lines;
