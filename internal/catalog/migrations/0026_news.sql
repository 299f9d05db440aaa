-- +goose Up
-- What happened that somebody may want to know of, whether or not anybody is told.
CREATE TABLE news (
	seq INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT NOT NULL, kind TEXT NOT NULL, title TEXT NOT NULL, severity TEXT NOT NULL,
	source TEXT NOT NULL, rule TEXT NOT NULL, address TEXT NOT NULL);
-- So events are there even where nobody is to be told of them.
DROP TRIGGER run_happened;
-- +goose StatementBegin
CREATE TRIGGER run_happened AFTER UPDATE OF state ON run WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed', 'cancelled', 'copied') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('run-' || NEW.state, NEW.id, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json_object('due', NEW.due, 'copied', NEW.copied, 'deleted', NEW.deleted,
			'left', NEW.changed + NEW.vanished + NEW.held + NEW.skipped)));
END;
-- +goose StatementEnd
DROP TRIGGER firing_happened;
-- +goose StatementBegin
CREATE TRIGGER firing_happened AFTER UPDATE OF state ON firing WHEN NEW.state <> OLD.state AND NEW.state IN ('nothing', 'asking', 'failed') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.state WHEN 'nothing' THEN 'nothing-due' WHEN 'asking' THEN 'over-limit' ELSE 'firing-failed' END,
		NEW.rule || ' ' || NEW.at, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', CASE NEW.state WHEN 'asking' THEN json_object('due', NEW.due) ELSE json('{}') END));
END;
-- +goose StatementEnd
DROP TRIGGER restore_asked;
-- +goose StatementBegin
CREATE TRIGGER restore_asked AFTER INSERT ON restore WHEN NEW.state = 'asked' BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('restore-asked', NEW.id, NEW.created_at,
		json_object('source', NEW.source, 'table', NEW.table_name, 'target', NEW.target, 'numbers', json('{}')));
END;
-- +goose StatementEnd
DROP TRIGGER restore_happened;
-- +goose StatementBegin
CREATE TRIGGER restore_happened AFTER UPDATE OF state ON restore WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed', 'refused') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.state WHEN 'done' THEN 'restore-ready' ELSE 'restore-' || NEW.state END, NEW.id,
		coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')), json_object('source', NEW.source, 'table', NEW.table_name, 'target', NEW.target, 'tell', NEW.tell,
			'until', coalesce(NEW.expires_at, ''), 'numbers', CASE NEW.state WHEN 'done' THEN json_object('restored', NEW.restored, 'skipped', NEW.skipped) ELSE json('{}') END));
END;
-- +goose StatementEnd
DROP TRIGGER disposal_planned;
-- +goose StatementBegin
CREATE TRIGGER disposal_planned AFTER INSERT ON disposal WHEN NEW.state = 'planned' BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('disposal-planned', NEW.id, NEW.created_at,
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
-- +goose StatementEnd
DROP TRIGGER disposal_happened;
-- +goose StatementBegin
CREATE TRIGGER disposal_happened AFTER UPDATE OF state ON disposal WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('disposal-' || NEW.state, NEW.id, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
-- +goose StatementEnd
DROP TRIGGER freeze_placed;
-- +goose StatementBegin
CREATE TRIGGER freeze_placed AFTER INSERT ON freeze BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('frozen', NEW.id, NEW.placed_at,
		json_object('source', NEW.source, 'table', NEW.table_name, 'until', coalesce(NEW.until, ''), 'numbers', json('{}')));
END;
-- +goose StatementEnd
DROP TRIGGER freeze_lifted;
-- +goose StatementBegin
CREATE TRIGGER freeze_lifted AFTER UPDATE OF lifted_at ON freeze WHEN OLD.lifted_at IS NULL AND NEW.lifted_at IS NOT NULL BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('unfrozen', NEW.id, NEW.lifted_at, json_object('source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
-- +goose StatementEnd
DROP TRIGGER finding_found;
-- +goose StatementBegin
CREATE TRIGGER finding_found AFTER INSERT ON finding BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.kind WHEN 'waits long' THEN 'waits-long' ELSE 'finding-opened' END, NEW.id, NEW.opened_at,
		json_object('finding', NEW.kind, 'subject', NEW.subject, 'severity', NEW.severity, 'numbers', json('{}'),
			'rule', CASE WHEN NEW.address LIKE '#/rules/%' THEN substr(NEW.address, 9) WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT rule FROM run WHERE id = substr(NEW.address, 8)), '') ELSE '' END,
			'source', CASE WHEN NEW.address LIKE '#/rules/%' THEN coalesce((SELECT source FROM rule WHERE name = substr(NEW.address, 9)), '')
				WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT source FROM run WHERE id = substr(NEW.address, 8)), '')
				WHEN NEW.address LIKE '#/tables/%/%' THEN substr(NEW.address, 10, instr(substr(NEW.address, 10), '/') - 1) ELSE '' END));
END;
-- +goose StatementEnd
DROP TRIGGER finding_over;
-- +goose StatementBegin
CREATE TRIGGER finding_over AFTER UPDATE OF closed_at ON finding WHEN OLD.closed_at IS NULL AND NEW.closed_at IS NOT NULL BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('finding-closed', NEW.id, NEW.closed_at,
		json_object('finding', NEW.kind, 'subject', NEW.subject, 'severity', NEW.severity, 'numbers', json('{}'),
			'rule', CASE WHEN NEW.address LIKE '#/rules/%' THEN substr(NEW.address, 9) WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT rule FROM run WHERE id = substr(NEW.address, 8)), '') ELSE '' END,
			'source', CASE WHEN NEW.address LIKE '#/rules/%' THEN coalesce((SELECT source FROM rule WHERE name = substr(NEW.address, 9)), '')
				WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT source FROM run WHERE id = substr(NEW.address, 8)), '')
				WHEN NEW.address LIKE '#/tables/%/%' THEN substr(NEW.address, 10, instr(substr(NEW.address, 10), '/') - 1) ELSE '' END));
END;
-- +goose StatementEnd
