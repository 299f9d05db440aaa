-- +goose Up
-- The audit log becomes a chain: each entry names the hash of the one before. What people gave stands in a detail, which can be erased.
-- The next step, in Go, takes the entries over.
ALTER TABLE audit RENAME TO audit_before;
CREATE TABLE audit (
	id INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, session TEXT NOT NULL, address TEXT NOT NULL, action TEXT NOT NULL,
	subject TEXT NOT NULL, outcome TEXT NOT NULL, digest TEXT NOT NULL, hash TEXT NOT NULL,
	kind TEXT GENERATED ALWAYS AS (substr(action, 1, instr(action || ' ', ' ') - 1)) VIRTUAL);
CREATE INDEX audit_at ON audit (at, id);
CREATE INDEX audit_actor ON audit (actor, at, id);
CREATE INDEX audit_kind ON audit (kind, at, id);
CREATE INDEX audit_subject ON audit (subject, at, id);
CREATE INDEX audit_outcome ON audit (outcome, at, id) WHERE outcome <> 'done';
-- erased: the entry that records that the text was erased; 0: it was not
CREATE TABLE audit_detail (entry INTEGER PRIMARY KEY, salt TEXT NOT NULL, text TEXT NOT NULL, erased INTEGER NOT NULL DEFAULT 0);
