-- +goose Up
-- Accounts are of persons, who sign in with a password, or of services, with a token. Roles are given in all sources, and in single ones.
CREATE TABLE account_now (
	name TEXT PRIMARY KEY, kind TEXT NOT NULL, owner TEXT NOT NULL DEFAULT '', about TEXT NOT NULL, email TEXT NOT NULL DEFAULT '', role TEXT NOT NULL,
	sees_rows INTEGER NOT NULL, grants TEXT NOT NULL DEFAULT '{}', token TEXT UNIQUE, password TEXT NOT NULL DEFAULT '', password_at TEXT,
	must_change INTEGER NOT NULL DEFAULT 0, second TEXT NOT NULL DEFAULT '', second_step INTEGER NOT NULL DEFAULT 0, issuer TEXT NOT NULL DEFAULT '',
	identity TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, created_by TEXT NOT NULL, expires_at TEXT, used_at TEXT,
	used_from TEXT NOT NULL DEFAULT '', signed_in_at TEXT, signed_in_from TEXT NOT NULL DEFAULT '', revoked_at TEXT, revoked_by TEXT NOT NULL DEFAULT '',
	reason TEXT NOT NULL DEFAULT '');
INSERT INTO account_now (name, kind, about, role, sees_rows, token, created_at, created_by, expires_at, used_at, used_from, revoked_at, revoked_by, reason)
	SELECT name, 'service', about, role, sees_rows, token, created_at, created_by, expires_at, used_at, used_from, revoked_at, revoked_by, reason FROM account;
DROP TABLE account;
ALTER TABLE account_now RENAME TO account;
CREATE UNIQUE INDEX account_identity ON account (issuer, identity) WHERE identity <> '';
-- Sessions that were begun before end with this: nobody knows whose they are.
DROP TABLE session;
CREATE TABLE session (
	id TEXT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, account TEXT NOT NULL, begun_at TEXT NOT NULL, expires_at TEXT NOT NULL, used_at TEXT NOT NULL,
	address TEXT NOT NULL, agent TEXT NOT NULL);
CREATE INDEX session_account ON session (account);
-- Browsers from which somebody has signed in: tries of others do not lock them out.
CREATE TABLE known_browser (hash TEXT PRIMARY KEY, account TEXT NOT NULL, at TEXT NOT NULL);
