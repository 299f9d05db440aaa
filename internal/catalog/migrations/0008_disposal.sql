-- +goose Up
CREATE TABLE disposal (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, rule TEXT NOT NULL, revision INTEGER NOT NULL, keep TEXT NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '',
	note TEXT NOT NULL, created_at TEXT NOT NULL, created_by TEXT NOT NULL, decided_at TEXT, decided_by TEXT NOT NULL DEFAULT '', ended_at TEXT,
	items TEXT NOT NULL, stays TEXT NOT NULL);
CREATE INDEX disposal_created ON disposal (created_at);
