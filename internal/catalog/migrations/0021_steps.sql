-- +goose Up
-- What is done before and after a run works, each time that it does.
CREATE TABLE step (
	id TEXT PRIMARY KEY, run TEXT NOT NULL, rule TEXT NOT NULL, phase TEXT NOT NULL, number INTEGER NOT NULL, what TEXT NOT NULL,
	began_at TEXT NOT NULL, ended_at TEXT, outcome TEXT NOT NULL, output TEXT NOT NULL DEFAULT '', tries INTEGER NOT NULL DEFAULT 1);
CREATE INDEX step_run ON step (run, id);
CREATE INDEX step_rule ON step (rule, id);
CREATE INDEX step_began ON step (began_at);

-- Since when what the rule of a run requires has not held; and whether steps after it are still to be done.
ALTER TABLE run ADD COLUMN unmet_since TEXT;
ALTER TABLE run ADD COLUMN entered INTEGER NOT NULL DEFAULT 0;

-- Who asked for a firing that is of no schedule.
ALTER TABLE firing ADD COLUMN asked_by TEXT NOT NULL DEFAULT '';

-- Rules that do not fire for a while.
CREATE TABLE off_schedule (
	id TEXT PRIMARY KEY, rule TEXT NOT NULL, reason TEXT NOT NULL, until TEXT, until_done INTEGER NOT NULL, placed_at TEXT NOT NULL,
	placed_by TEXT NOT NULL, lifted_at TEXT, lifted_by TEXT NOT NULL DEFAULT '', lift_reason TEXT NOT NULL DEFAULT '');
CREATE UNIQUE INDEX off_schedule_stands ON off_schedule (rule) WHERE lifted_at IS NULL;

-- How large tables were, once a day.
CREATE TABLE table_size (
	source TEXT NOT NULL, table_name TEXT NOT NULL, at TEXT NOT NULL, row_count INTEGER NOT NULL, bytes INTEGER NOT NULL,
	PRIMARY KEY (source, table_name, at)) WITHOUT ROWID;
CREATE INDEX table_size_at ON table_size (at);

-- Which of the restores, exports, disposals and verifications that wait goes first, and which are paused. A job without a
-- line has the usual turn.
CREATE TABLE job_turn (
	kind TEXT NOT NULL, id TEXT NOT NULL, priority INTEGER NOT NULL DEFAULT 0, paused_at TEXT, paused_by TEXT NOT NULL DEFAULT '',
	PRIMARY KEY (kind, id)) WITHOUT ROWID;

-- Who started a run.
ALTER TABLE run ADD COLUMN started_by TEXT NOT NULL DEFAULT '';

-- What the runs of a rule's revision came to that ended on a day, in UTC. It stays when the runs are forgotten.
CREATE TABLE day_sum (
	day TEXT NOT NULL, rule TEXT NOT NULL, revision INTEGER NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL, store TEXT NOT NULL,
	runs INTEGER NOT NULL, archived INTEGER NOT NULL, purged INTEGER NOT NULL, freed INTEGER NOT NULL, file_bytes INTEGER NOT NULL,
	PRIMARY KEY (day, rule, revision)) WITHOUT ROWID;
INSERT INTO day_sum SELECT substr(r.ended_at, 1, 10), r.rule, r.revision, r.source, r.table_name, r.store, count(*),
	sum(r.deleted - r.purged), sum(r.purged), CAST(sum(r.raw_bytes + coalesce(r.purged * (p.counts ->> '$.bytes') / max(p.counts ->> '$.due', 1), 0)) AS INTEGER),
	sum(r.file_bytes) FROM run r LEFT JOIN plan p ON p.id = r.plan WHERE r.ended_at IS NOT NULL GROUP BY 1, 2, 3;

-- Plans without what takes the most room in them: statements, the table's columns, the spread over age.
ALTER TABLE plan ADD COLUMN thin INTEGER NOT NULL DEFAULT 0;
CREATE INDEX plan_whole ON plan (made_at) WHERE NOT thin;
