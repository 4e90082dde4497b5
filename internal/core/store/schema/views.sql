-- What people read with the sqlite3 shell: words for numbers, times in UTC. Nothing of the
-- program reads them.

CREATE VIEW v_jobs AS
SELECT j.id, s.name AS state, t.name AS task, q.name AS queue, x.priority, j.tries, j.attempt, j.round,
    nullif(j.reason, '') AS reason, nullif(j.reason_text, '') AS reason_text, nullif(j.owner, '') AS owner, nullif(j.lane, '') AS lane,
    nullif(j.key, '') AS key, nullif(x.labels, '') AS labels, c.name AS schedule, nullif(w.name, '') AS worker,
    strftime('%Y-%m-%dT%H:%M:%fZ', j.enqueued_at / 1000.0, 'unixepoch') AS enqueued_at,
    CASE WHEN x.run_at      > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', x.run_at      / 1000.0, 'unixepoch') END AS run_at,
    CASE WHEN j.start_by    > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.start_by    / 1000.0, 'unixepoch') END AS start_by,
    CASE WHEN j.ready_at    > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.ready_at    / 1000.0, 'unixepoch') END AS ready_at,
    CASE WHEN j.started_at  > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.started_at  / 1000.0, 'unixepoch') END AS started_at,
    CASE WHEN j.finished_at > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.finished_at / 1000.0, 'unixepoch') END AS finished_at,
    CASE WHEN j.next_at     > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', j.next_at     / 1000.0, 'unixepoch') END AS next_at,
    x.payload_bytes, CAST(coalesce(x.payload, b.bytes) AS TEXT) AS payload, CAST(r.bytes AS TEXT) AS result, p.body AS policy
FROM jobs j JOIN specs x ON x.job = j.id JOIN states s ON s.id = j.state JOIN tasks t ON t.id = j.task JOIN queues q ON q.id = j.queue JOIN policies p ON p.id = x.policy
    LEFT JOIN bodies b ON b.job = j.id AND b.kind = 1 AND b.n = 0 LEFT JOIN bodies r ON r.job = j.id AND r.kind = 2 AND r.n = 0
    LEFT JOIN schedules c ON c.id = j.schedule LEFT JOIN workers w ON w.id = j.worker
WHERE j.removed_by = 0;

CREATE VIEW v_attempts AS
SELECT a.job, a.n, a.round, nullif(w.name, '') AS worker, w.host, w.version,
    strftime('%Y-%m-%dT%H:%M:%fZ', a.started_at / 1000.0, 'unixepoch') AS started_at,
    strftime('%Y-%m-%dT%H:%M:%fZ', a.ended_at   / 1000.0, 'unixepoch') AS ended_at,
    a.ended_at - a.started_at AS took_ms, a.outcome, a.counted, nullif(a.error_type, '') AS error_type, nullif(a.error_message, '') AS error_message
FROM (SELECT job, n, round, worker, started_at, ended_at, outcome, counted, error_type, error_message FROM attempts
    UNION ALL SELECT id, attempt, round, worker, leased_at, finished_at, 'done', 1, '', '' FROM jobs WHERE state = 6 AND token <> 0) a
    LEFT JOIN workers w ON w.id = a.worker;

CREATE VIEW v_queues AS
SELECT q.name AS queue, t.name AS task, s.name AS state, c.n AS jobs
FROM counts c JOIN queues q ON q.id = c.queue JOIN tasks t ON t.id = c.task JOIN states s ON s.id = c.state
WHERE c.n > 0;

CREATE VIEW v_actions AS
SELECT id, strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') AS at, principal, action, nullif(job, 0) AS job, detail
FROM actions;

CREATE VIEW v_log AS
SELECT job, attempt, n, strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') AS at, text
FROM log_lines;

CREATE VIEW v_steps AS
SELECT job, name, attempt,
    strftime('%Y-%m-%dT%H:%M:%fZ', begun_at / 1000.0, 'unixepoch') AS begun_at,
    CASE WHEN done_at > 0 THEN strftime('%Y-%m-%dT%H:%M:%fZ', done_at / 1000.0, 'unixepoch') END AS done_at, CAST(result AS TEXT) AS result
FROM steps;

CREATE VIEW v_workers AS
SELECT id, nullif(name, '') AS name, uid, host, pid, version, nullif(wanted, '') AS wanted,
    strftime('%Y-%m-%dT%H:%M:%fZ', first_seen / 1000.0, 'unixepoch') AS first_seen,
    strftime('%Y-%m-%dT%H:%M:%fZ', last_seen  / 1000.0, 'unixepoch') AS last_seen
FROM workers;

CREATE VIEW v_causes AS
SELECT c.id, c.error_type, c.template, s.name AS state, q.name AS queue, t.name AS task, nullif(n.version, '') AS version, nullif(n.host, '') AS host, n.n AS jobs,
    strftime('%Y-%m-%dT%H:%M:%fZ', c.first_at / 1000.0, 'unixepoch') AS first_at,
    strftime('%Y-%m-%dT%H:%M:%fZ', c.last_at  / 1000.0, 'unixepoch') AS last_at
FROM cause_counts n JOIN causes c ON c.id = n.cause JOIN states s ON s.id = n.state JOIN queues q ON q.id = n.queue JOIN tasks t ON t.id = n.task
WHERE n.n > 0;

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
