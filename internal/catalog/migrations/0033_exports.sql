-- +goose Up
-- Exports of the audit log that are made in the background, once or again and again.
CREATE TABLE audit_export (
	id TEXT PRIMARY KEY, format TEXT NOT NULL, filter TEXT NOT NULL, account TEXT NOT NULL, sees_rows INTEGER NOT NULL, tell TEXT NOT NULL,
	schedule TEXT NOT NULL, state TEXT NOT NULL, done INTEGER NOT NULL DEFAULT 0, total INTEGER NOT NULL DEFAULT 0, entries INTEGER NOT NULL DEFAULT 0,
	bytes INTEGER NOT NULL DEFAULT 0, sha256 TEXT NOT NULL DEFAULT '', problem TEXT NOT NULL DEFAULT '', made_at TEXT NOT NULL, ended_at TEXT,
	expires_at TEXT);
CREATE INDEX audit_export_made ON audit_export (made_at, id);
CREATE TABLE audit_schedule (
	name TEXT PRIMARY KEY, recurrence TEXT NOT NULL, zone TEXT NOT NULL, format TEXT NOT NULL, filter TEXT NOT NULL, account TEXT NOT NULL,
	tell TEXT NOT NULL, made_at TEXT NOT NULL, last_at TEXT NOT NULL, next_at TEXT NOT NULL);
