-- +goose Up
ALTER TABLE plan RENAME COLUMN survey TO counts;
ALTER TABLE plan ADD COLUMN detail TEXT NOT NULL DEFAULT '{}';
ALTER TABLE rule_revision ADD COLUMN shape TEXT NOT NULL DEFAULT '{}';
ALTER TABLE rule_revision ADD COLUMN reason TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN passes TEXT NOT NULL DEFAULT '[]';
ALTER TABLE run ADD COLUMN pass INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN row_limit INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN deleting INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN delete_at TEXT;
ALTER TABLE segment ADD COLUMN clause INTEGER NOT NULL DEFAULT 0;
ALTER TABLE batch ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
DROP INDEX run_active;
CREATE UNIQUE INDEX run_active ON run (source, table_name) WHERE state IN ('queued', 'running', 'paused', 'failed', 'copied');

CREATE TABLE keep (
	name TEXT PRIMARY KEY, body TEXT NOT NULL, text TEXT NOT NULL, applied_at TEXT NOT NULL, applied_by TEXT NOT NULL);

CREATE TABLE guard (
	source TEXT PRIMARY KEY REFERENCES source (name), body TEXT NOT NULL, set_at TEXT NOT NULL, set_by TEXT NOT NULL);

CREATE TABLE hold (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, filter TEXT NOT NULL, segments TEXT NOT NULL,
	reference TEXT NOT NULL, reason TEXT NOT NULL, placed_at TEXT NOT NULL, placed_by TEXT NOT NULL,
	lifted_at TEXT, lifted_by TEXT NOT NULL DEFAULT '', lift_reason TEXT NOT NULL DEFAULT '');
CREATE INDEX hold_table ON hold (source, table_name) WHERE lifted_at IS NULL;
