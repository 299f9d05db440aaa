-- +goose Up
-- Who is told what happens.
CREATE TABLE recipient (name TEXT PRIMARY KEY, body TEXT NOT NULL, set_at TEXT NOT NULL, set_by TEXT NOT NULL, digested_to TEXT NOT NULL);

-- What happened, written in the transaction in which it did, until it is known who is told of it.
CREATE TABLE event (id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, record TEXT NOT NULL, at TEXT NOT NULL, detail TEXT NOT NULL);

-- The outbox: each notice to each recipient, in the order in which they are sent.
CREATE TABLE delivery (
	seq INTEGER PRIMARY KEY AUTOINCREMENT, id TEXT NOT NULL UNIQUE, recipient TEXT NOT NULL, address TEXT NOT NULL, kind TEXT NOT NULL, record TEXT NOT NULL, title TEXT NOT NULL,
	notice TEXT NOT NULL, urgent INTEGER NOT NULL, state TEXT NOT NULL, attempts INTEGER NOT NULL DEFAULT 0, made_at TEXT NOT NULL, since TEXT NOT NULL, next_at TEXT NOT NULL,
	ended_at TEXT, error TEXT NOT NULL DEFAULT '');
CREATE INDEX delivery_waiting ON delivery (recipient, address, urgent, seq) WHERE state = 'waiting';
CREATE INDEX delivery_state ON delivery (state, seq);
CREATE INDEX delivery_recipient ON delivery (recipient, seq);
CREATE INDEX delivery_ended ON delivery (ended_at) WHERE ended_at IS NOT NULL;

-- +goose StatementBegin
CREATE TRIGGER run_happened AFTER UPDATE OF state ON run WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed', 'cancelled', 'copied')
	AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('run-' || NEW.state, NEW.id, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json_object('due', NEW.due, 'copied', NEW.copied, 'deleted', NEW.deleted,
			'left', NEW.changed + NEW.vanished + NEW.held + NEW.skipped)));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER firing_happened AFTER UPDATE OF state ON firing WHEN NEW.state <> OLD.state AND NEW.state IN ('nothing', 'asking', 'failed')
	AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.state WHEN 'nothing' THEN 'nothing-due' WHEN 'asking' THEN 'over-limit' ELSE 'firing-failed' END,
		NEW.rule || ' ' || NEW.at, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', CASE NEW.state WHEN 'asking' THEN json_object('due', NEW.due) ELSE json('{}') END));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER restore_asked AFTER INSERT ON restore WHEN NEW.state = 'asked' AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('restore-asked', NEW.id, NEW.created_at,
		json_object('source', NEW.source, 'table', NEW.table_name, 'target', NEW.target, 'numbers', json('{}')));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER restore_happened AFTER UPDATE OF state ON restore WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed', 'refused')
	AND (NEW.tell <> '' OR EXISTS (SELECT 1 FROM recipient)) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.state WHEN 'done' THEN 'restore-ready' ELSE 'restore-' || NEW.state END, NEW.id,
		coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')), json_object('source', NEW.source, 'table', NEW.table_name, 'target', NEW.target, 'tell', NEW.tell,
			'until', coalesce(NEW.expires_at, ''), 'numbers', CASE NEW.state WHEN 'done' THEN json_object('restored', NEW.restored, 'skipped', NEW.skipped) ELSE json('{}') END));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER disposal_planned AFTER INSERT ON disposal WHEN NEW.state = 'planned' AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('disposal-planned', NEW.id, NEW.created_at,
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER disposal_happened AFTER UPDATE OF state ON disposal WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed') AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('disposal-' || NEW.state, NEW.id, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER freeze_placed AFTER INSERT ON freeze WHEN EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('frozen', NEW.id, NEW.placed_at,
		json_object('source', NEW.source, 'table', NEW.table_name, 'until', coalesce(NEW.until, ''), 'numbers', json('{}')));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER freeze_lifted AFTER UPDATE OF lifted_at ON freeze WHEN OLD.lifted_at IS NULL AND NEW.lifted_at IS NOT NULL AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('unfrozen', NEW.id, NEW.lifted_at, json_object('source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER finding_found AFTER INSERT ON finding WHEN EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.kind WHEN 'waits long' THEN 'waits-long' ELSE 'finding-opened' END, NEW.id, NEW.opened_at,
		json_object('finding', NEW.kind, 'subject', NEW.subject, 'severity', NEW.severity, 'numbers', json('{}'),
			'rule', CASE WHEN NEW.address LIKE '#/rules/%' THEN substr(NEW.address, 9) WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT rule FROM run WHERE id = substr(NEW.address, 8)), '') ELSE '' END,
			'source', CASE WHEN NEW.address LIKE '#/rules/%' THEN coalesce((SELECT source FROM rule WHERE name = substr(NEW.address, 9)), '')
				WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT source FROM run WHERE id = substr(NEW.address, 8)), '')
				WHEN NEW.address LIKE '#/tables/%/%' THEN substr(NEW.address, 10, instr(substr(NEW.address, 10), '/') - 1) ELSE '' END));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER finding_over AFTER UPDATE OF closed_at ON finding WHEN OLD.closed_at IS NULL AND NEW.closed_at IS NOT NULL AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('finding-closed', NEW.id, NEW.closed_at,
		json_object('finding', NEW.kind, 'subject', NEW.subject, 'severity', NEW.severity, 'numbers', json('{}'),
			'rule', CASE WHEN NEW.address LIKE '#/rules/%' THEN substr(NEW.address, 9) WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT rule FROM run WHERE id = substr(NEW.address, 8)), '') ELSE '' END,
			'source', CASE WHEN NEW.address LIKE '#/rules/%' THEN coalesce((SELECT source FROM rule WHERE name = substr(NEW.address, 9)), '')
				WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT source FROM run WHERE id = substr(NEW.address, 8)), '')
				WHEN NEW.address LIKE '#/tables/%/%' THEN substr(NEW.address, 10, instr(substr(NEW.address, 10), '/') - 1) ELSE '' END));
END;
-- +goose StatementEnd

-- Restores of which somebody is still to be told.
INSERT INTO event (kind, record, at, detail) SELECT CASE state WHEN 'failed' THEN 'restore-failed' WHEN 'refused' THEN 'restore-refused' ELSE 'restore-ready' END, id, ended_at,
	json_object('source', source, 'table', table_name, 'target', target, 'tell', tell, 'until', coalesce(expires_at, ''), 'numbers', json_object('restored', restored, 'skipped', skipped))
	FROM restore WHERE tell <> '' AND told_at IS NULL AND state IN ('done', 'failed', 'refused', 'expired') ORDER BY created_at;
