-- What is promised for a while counts the time in which the file is served, in ms: neither
-- a stop nor a jump of the wall clock uses it up. jobs.removed_at is in that time too.
ALTER TABLE receipts ADD COLUMN served INTEGER NOT NULL DEFAULT 0;
UPDATE jobs SET removed_at = 0 WHERE removed_by <> 0;

-- Finished jobs in the order in which they are no longer kept.
CREATE INDEX jobs_finished ON jobs (queue, state, finished_at, id) WHERE state > 5 AND removed_by = 0;

-- What dedupe asks for: the newest job of a task with a key that is unfinished, whether it
-- was started or not, or that was enqueued since a time. Every index costs each write of a
-- job something, whether it is in it or not: there are no more than are needed.
DROP INDEX jobs_key_open;
CREATE INDEX jobs_open   ON jobs (task, key, started_at > 0, id) WHERE key <> '' AND state < 6 AND removed_by = 0;
CREATE INDEX jobs_recent ON jobs (task, key, enqueued_at, id) WHERE key <> '' AND state NOT IN (8, 9) AND removed_by = 0;

-- The newest of the keys of removed jobs.
CREATE INDEX keys_recent ON keys (task, key, enqueued_at, job);

CREATE INDEX operations_action ON operations (action);
CREATE INDEX jobs_removed_of ON jobs (queue, task) WHERE removed_by <> 0;
CREATE INDEX actions_job ON actions (job, id) WHERE job <> 0;

-- When a worker was last seen, and since when a queue or a task has had neither jobs nor
-- settings; 0 where it has.
ALTER TABLE workers ADD COLUMN last_seen INTEGER NOT NULL DEFAULT 0;
UPDATE workers SET last_seen = first_seen;
CREATE INDEX workers_seen ON workers (last_seen);
ALTER TABLE queues ADD COLUMN idle_since INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tasks  ADD COLUMN idle_since INTEGER NOT NULL DEFAULT 0;
-- Whose token made the name.
ALTER TABLE queues ADD COLUMN made_by TEXT NOT NULL DEFAULT '';
ALTER TABLE tasks  ADD COLUMN made_by TEXT NOT NULL DEFAULT '';

-- Of a job that an action on many has requeued: the operation, and what became of its jobs.
ALTER TABLE jobs ADD COLUMN operation INTEGER NOT NULL DEFAULT 0;
CREATE TABLE operation_counts (
    operation INTEGER NOT NULL,
    state     INTEGER NOT NULL,
    n         INTEGER NOT NULL,
    PRIMARY KEY (operation, state)
) WITHOUT ROWID;

-- What of a schedule is unfinished, and which of its runs have died because the next one
-- took their place.
CREATE INDEX jobs_of_schedule ON jobs (schedule, state, id) WHERE schedule <> 0 AND (state < 6 OR state = 9 AND reason = 'superseded') AND removed_by = 0;

-- How many runs of a schedule have failed in a row, and when one was last done.
ALTER TABLE schedules ADD COLUMN failed    INTEGER NOT NULL DEFAULT 0;
ALTER TABLE schedules ADD COLUMN last_done INTEGER NOT NULL DEFAULT 0;
