-- +goose Up
-- Schedules that rules share.
CREATE TABLE schedule (name TEXT PRIMARY KEY, body TEXT NOT NULL, text TEXT NOT NULL, applied_at TEXT NOT NULL, applied_by TEXT NOT NULL);

-- Up to which moment the firings of a rule are dealt with: none is before it, and each after it is still to come.
ALTER TABLE rule ADD COLUMN fired_to TEXT;

-- Each firing of a rule's schedule, from before anything is done about it.
CREATE TABLE firing (
	rule TEXT NOT NULL, at TEXT NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '',
	missed INTEGER NOT NULL DEFAULT 0, tries INTEGER NOT NULL DEFAULT 0, next_try TEXT, plan TEXT NOT NULL DEFAULT '', run TEXT NOT NULL DEFAULT '',
	due INTEGER NOT NULL DEFAULT 0, began_at TEXT NOT NULL, ended_at TEXT, PRIMARY KEY (rule, at)) WITHOUT ROWID;
CREATE INDEX firing_at ON firing (at, rule);
CREATE INDEX firing_open ON firing (state, at) WHERE state IN ('due', 'asking');
CREATE INDEX firing_plan ON firing (plan) WHERE plan <> '';

-- When the service must not touch a database: all of them (empty source), one, or one table of it.
CREATE TABLE freeze (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, reason TEXT NOT NULL, until TEXT,
	placed_at TEXT NOT NULL, placed_by TEXT NOT NULL, lifted_at TEXT, lifted_by TEXT NOT NULL DEFAULT '', lift_reason TEXT NOT NULL DEFAULT '');
CREATE INDEX freeze_stands ON freeze (placed_at) WHERE lifted_at IS NULL;

-- A run that is to begin at a later hour, and which of those that wait goes first.
ALTER TABLE run ADD COLUMN start_at TEXT;
ALTER TABLE run ADD COLUMN priority INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN scheduled TEXT;
ALTER TABLE run ADD COLUMN retries INTEGER NOT NULL DEFAULT 0;
CREATE INDEX run_waiting ON run (priority DESC, created_at, id) WHERE state = 'queued';

-- What somebody should look at.
CREATE TABLE finding (
	id TEXT PRIMARY KEY, kind TEXT NOT NULL, subject TEXT NOT NULL, message TEXT NOT NULL, evidence TEXT NOT NULL, remedy TEXT NOT NULL,
	address TEXT NOT NULL, severity TEXT NOT NULL, opened_at TEXT NOT NULL, seen_at TEXT NOT NULL, closed_at TEXT,
	acknowledged_at TEXT, acknowledged_by TEXT NOT NULL DEFAULT '', acknowledged_until TEXT, acknowledge_reason TEXT NOT NULL DEFAULT '');
CREATE UNIQUE INDEX finding_open ON finding (kind, subject) WHERE closed_at IS NULL;
CREATE INDEX finding_opened ON finding (opened_at, id);
CREATE INDEX finding_closed ON finding (closed_at) WHERE closed_at IS NOT NULL;

-- Rows that a run deleted without a copy: also of a run that archives others.
ALTER TABLE run ADD COLUMN purged INTEGER NOT NULL DEFAULT 0;
UPDATE run SET purged = deleted WHERE action = 'purge';
UPDATE run SET purged = (SELECT coalesce(sum(x.value ->> '$.ledger.deleted'), 0) FROM json_each(run.passes) x WHERE x.value ->> '$.then' = 'purge') WHERE action = 'mixed';
DROP INDEX run_purged;
CREATE INDEX run_purged ON run (purged) WHERE purged > 0;
