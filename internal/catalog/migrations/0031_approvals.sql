-- +goose Up
-- What others have to approve before it is carried out, and who decided how. The digest tells what was approved; begins is what is carried out by itself
-- once it is, empty: nothing.
CREATE TABLE approval (
	id TEXT PRIMARY KEY, what TEXT NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL, rule TEXT NOT NULL, subject TEXT NOT NULL,
	digest TEXT NOT NULL, summary TEXT NOT NULL, row_count INTEGER NOT NULL, persons INTEGER NOT NULL, asked_by TEXT NOT NULL, asked_person TEXT NOT NULL,
	asked_at TEXT NOT NULL, expires_at TEXT NOT NULL, state TEXT NOT NULL, ended_at TEXT, begins TEXT NOT NULL DEFAULT '', begun_at TEXT,
	trouble TEXT NOT NULL DEFAULT '');
CREATE INDEX approval_asked ON approval (asked_at, id);
CREATE INDEX approval_subject ON approval (subject, what, asked_at);
CREATE INDEX approval_open ON approval (state) WHERE state IN ('waiting', 'granted');
CREATE TABLE approval_vote (
	approval TEXT NOT NULL REFERENCES approval (id), person TEXT NOT NULL, account TEXT NOT NULL, for_person TEXT NOT NULL, approves INTEGER NOT NULL,
	reason TEXT NOT NULL, at TEXT NOT NULL, PRIMARY KEY (approval, person));
-- Who decides for somebody else for a time.
CREATE TABLE delegation (
	id TEXT PRIMARY KEY, from_account TEXT NOT NULL, to_account TEXT NOT NULL, until TEXT NOT NULL, reason TEXT NOT NULL, made_at TEXT NOT NULL,
	ended_at TEXT, ended_by TEXT NOT NULL DEFAULT '');
ALTER TABLE plan ADD COLUMN made_by TEXT NOT NULL DEFAULT '';
-- +goose StatementBegin
CREATE TRIGGER approval_asked AFTER INSERT ON approval WHEN NEW.what NOT IN ('restores', 'disposals', 'erasures') AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('approval-asked', NEW.id, NEW.asked_at,
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'subject', NEW.what, 'numbers', json('{}')));
END;
-- +goose StatementEnd
