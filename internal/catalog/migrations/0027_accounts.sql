-- +goose Up
-- Who may come in besides the administrator: accounts of services, each with a token of its own. A name is never used again.
CREATE TABLE account (
	name TEXT PRIMARY KEY, about TEXT NOT NULL, role TEXT NOT NULL, sees_rows INTEGER NOT NULL, token TEXT NOT NULL UNIQUE, created_at TEXT NOT NULL,
	created_by TEXT NOT NULL, expires_at TEXT, used_at TEXT, used_from TEXT NOT NULL DEFAULT '', revoked_at TEXT, revoked_by TEXT NOT NULL DEFAULT '',
	reason TEXT NOT NULL DEFAULT '');
ALTER TABLE session ADD COLUMN account TEXT NOT NULL DEFAULT '';
