-- Whether a ready job waits by turns of its queue's owners.
ALTER TABLE jobs ADD COLUMN turn INTEGER NOT NULL DEFAULT 0;

-- How often the settings of a queue or task were set, and where the walk stands that
-- gives its waiting jobs places by a new order: the last id it has looked at; -1: none.
ALTER TABLE queues ADD COLUMN version  INTEGER NOT NULL DEFAULT 0;
ALTER TABLE queues ADD COLUMN walked   INTEGER NOT NULL DEFAULT -1;
ALTER TABLE tasks  ADD COLUMN version  INTEGER NOT NULL DEFAULT 0;

CREATE INDEX jobs_turn ON jobs (queue, task, level DESC, owner, rank, id) WHERE state = 3 AND turn = 1 AND removed_by = 0;
CREATE INDEX jobs_lane ON jobs (queue, lane, rank, id) WHERE state = 1 AND lane <> '' AND removed_by = 0;
CREATE INDEX jobs_start_by ON jobs (start_by, id) WHERE start_by > 0 AND started_at = 0 AND state IN (1, 2, 3) AND removed_by = 0;

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
