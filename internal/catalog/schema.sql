CREATE TABLE "account" (
	name TEXT PRIMARY KEY, kind TEXT NOT NULL, owner TEXT NOT NULL DEFAULT '', about TEXT NOT NULL, email TEXT NOT NULL DEFAULT '', role TEXT NOT NULL,
	sees_rows INTEGER NOT NULL, grants TEXT NOT NULL DEFAULT '{}', token TEXT UNIQUE, password TEXT NOT NULL DEFAULT '', password_at TEXT,
	must_change INTEGER NOT NULL DEFAULT 0, second TEXT NOT NULL DEFAULT '', second_step INTEGER NOT NULL DEFAULT 0, issuer TEXT NOT NULL DEFAULT '',
	identity TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, created_by TEXT NOT NULL, expires_at TEXT, used_at TEXT,
	used_from TEXT NOT NULL DEFAULT '', signed_in_at TEXT, signed_in_from TEXT NOT NULL DEFAULT '', revoked_at TEXT, revoked_by TEXT NOT NULL DEFAULT '',
	reason TEXT NOT NULL DEFAULT '');
CREATE TABLE approval (
	id TEXT PRIMARY KEY, what TEXT NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL, rule TEXT NOT NULL, subject TEXT NOT NULL,
	digest TEXT NOT NULL, summary TEXT NOT NULL, row_count INTEGER NOT NULL, persons INTEGER NOT NULL, asked_by TEXT NOT NULL, asked_person TEXT NOT NULL,
	asked_at TEXT NOT NULL, expires_at TEXT NOT NULL, state TEXT NOT NULL, ended_at TEXT, begins TEXT NOT NULL DEFAULT '', begun_at TEXT,
	trouble TEXT NOT NULL DEFAULT '');
CREATE TABLE approval_vote (
	approval TEXT NOT NULL REFERENCES approval (id), person TEXT NOT NULL, account TEXT NOT NULL, for_person TEXT NOT NULL, approves INTEGER NOT NULL,
	reason TEXT NOT NULL, at TEXT NOT NULL, PRIMARY KEY (approval, person));
CREATE TABLE audit (
	id INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, session TEXT NOT NULL, address TEXT NOT NULL, action TEXT NOT NULL,
	subject TEXT NOT NULL, outcome TEXT NOT NULL, digest TEXT NOT NULL, hash TEXT NOT NULL,
	kind TEXT GENERATED ALWAYS AS (substr(action, 1, instr(action || ' ', ' ') - 1)) VIRTUAL);
CREATE TABLE audit_detail (entry INTEGER PRIMARY KEY, salt TEXT NOT NULL, text TEXT NOT NULL, erased INTEGER NOT NULL DEFAULT 0);
CREATE TABLE audit_erasure (id INTEGER PRIMARY KEY, actor TEXT NOT NULL, why TEXT NOT NULL, through INTEGER NOT NULL, condition TEXT NOT NULL,
	entry INTEGER NOT NULL DEFAULT 0, entries TEXT NOT NULL DEFAULT '[]');
CREATE TABLE audit_export (
	id TEXT PRIMARY KEY, format TEXT NOT NULL, filter TEXT NOT NULL, account TEXT NOT NULL, sees_rows INTEGER NOT NULL, tell TEXT NOT NULL,
	schedule TEXT NOT NULL, state TEXT NOT NULL, done INTEGER NOT NULL DEFAULT 0, total INTEGER NOT NULL DEFAULT 0, entries INTEGER NOT NULL DEFAULT 0,
	bytes INTEGER NOT NULL DEFAULT 0, sha256 TEXT NOT NULL DEFAULT '', problem TEXT NOT NULL DEFAULT '', made_at TEXT NOT NULL, ended_at TEXT,
	expires_at TEXT);
CREATE TABLE audit_leftover (store TEXT NOT NULL, stem TEXT NOT NULL, since TEXT NOT NULL, PRIMARY KEY (store, stem));
CREATE TABLE audit_schedule (
	name TEXT PRIMARY KEY, recurrence TEXT NOT NULL, zone TEXT NOT NULL, format TEXT NOT NULL, filter TEXT NOT NULL, account TEXT NOT NULL,
	tell TEXT NOT NULL, made_at TEXT NOT NULL, last_at TEXT NOT NULL, next_at TEXT NOT NULL);
CREATE TABLE audit_segment (
	first INTEGER PRIMARY KEY, last INTEGER NOT NULL, before TEXT NOT NULL, hash TEXT NOT NULL, least TEXT NOT NULL, greatest TEXT NOT NULL,
	erased INTEGER NOT NULL, store TEXT NOT NULL, stem TEXT NOT NULL, written TEXT NOT NULL, digest TEXT NOT NULL,
	moved_at TEXT NOT NULL, due_at TEXT, destroyed_at TEXT);
CREATE TABLE batch (
	run TEXT NOT NULL REFERENCES run (id), segment INTEGER NOT NULL, number INTEGER NOT NULL, retry INTEGER NOT NULL,
	row_count INTEGER NOT NULL, deleted INTEGER NOT NULL, changed INTEGER NOT NULL, vanished INTEGER NOT NULL, skipped INTEGER NOT NULL,
	micros INTEGER NOT NULL, at TEXT NOT NULL, held INTEGER NOT NULL DEFAULT 0, rest_micros INTEGER NOT NULL DEFAULT 0, log_bytes INTEGER, PRIMARY KEY (run, segment, number)) WITHOUT ROWID;
CREATE TABLE column_name (source TEXT NOT NULL, table_name TEXT NOT NULL, name TEXT NOT NULL, was TEXT NOT NULL, told_at TEXT NOT NULL, told_by TEXT NOT NULL,
	PRIMARY KEY (source, table_name, name, was));
CREATE TABLE column_seen (source TEXT NOT NULL, table_name TEXT NOT NULL, numbered TEXT NOT NULL, number INTEGER NOT NULL, name TEXT NOT NULL,
	first_at TEXT NOT NULL, since TEXT NOT NULL, gone INTEGER NOT NULL, PRIMARY KEY (source, table_name, numbered, number, name));
CREATE TABLE course (run TEXT PRIMARY KEY, course TEXT NOT NULL);
CREATE TABLE day_sum (
	day TEXT NOT NULL, rule TEXT NOT NULL, revision INTEGER NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL, store TEXT NOT NULL,
	runs INTEGER NOT NULL, archived INTEGER NOT NULL, purged INTEGER NOT NULL, freed INTEGER NOT NULL, file_bytes INTEGER NOT NULL, working_micros INTEGER NOT NULL DEFAULT 0,
	PRIMARY KEY (day, rule, revision)) WITHOUT ROWID;
CREATE TABLE declared (
	kind TEXT NOT NULL, name TEXT NOT NULL, file TEXT NOT NULL, text TEXT NOT NULL, taken_at TEXT NOT NULL,
	PRIMARY KEY (kind, name)) WITHOUT ROWID;
CREATE TABLE delegation (
	id TEXT PRIMARY KEY, from_account TEXT NOT NULL, to_account TEXT NOT NULL, until TEXT NOT NULL, reason TEXT NOT NULL, made_at TEXT NOT NULL,
	ended_at TEXT, ended_by TEXT NOT NULL DEFAULT '');
CREATE TABLE delivery (
	seq INTEGER PRIMARY KEY AUTOINCREMENT, id TEXT NOT NULL UNIQUE, recipient TEXT NOT NULL, address TEXT NOT NULL, kind TEXT NOT NULL, record TEXT NOT NULL, title TEXT NOT NULL,
	notice TEXT NOT NULL, urgent INTEGER NOT NULL, state TEXT NOT NULL, attempts INTEGER NOT NULL DEFAULT 0, made_at TEXT NOT NULL, since TEXT NOT NULL, next_at TEXT NOT NULL,
	ended_at TEXT, error TEXT NOT NULL DEFAULT '');
CREATE TABLE disposal (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, rule TEXT NOT NULL, revision INTEGER NOT NULL, keep TEXT NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '',
	note TEXT NOT NULL, created_at TEXT NOT NULL, created_by TEXT NOT NULL, decided_at TEXT, decided_by TEXT NOT NULL DEFAULT '', ended_at TEXT,
	approved_by TEXT NOT NULL DEFAULT '', approved_at TEXT, kind TEXT NOT NULL DEFAULT 'disposal', erases TEXT NOT NULL DEFAULT '', remains TEXT NOT NULL DEFAULT '[]', segments INTEGER NOT NULL DEFAULT 0, row_count INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0, gone INTEGER NOT NULL DEFAULT 0, staying INTEGER NOT NULL DEFAULT 0);
CREATE TABLE disposal_item (disposal TEXT NOT NULL REFERENCES disposal (id), position INTEGER NOT NULL, item TEXT NOT NULL, PRIMARY KEY (disposal, position)) WITHOUT ROWID;
CREATE TABLE disposal_stay (disposal TEXT NOT NULL REFERENCES disposal (id), position INTEGER NOT NULL, stay TEXT NOT NULL, PRIMARY KEY (disposal, position)) WITHOUT ROWID;
CREATE TABLE effort_sum (
	day TEXT NOT NULL, source TEXT NOT NULL, kind TEXT NOT NULL, name TEXT NOT NULL, micros INTEGER NOT NULL, times INTEGER NOT NULL,
	PRIMARY KEY (day, source, kind, name)) WITHOUT ROWID;
CREATE TABLE event (id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, record TEXT NOT NULL, at TEXT NOT NULL, detail TEXT NOT NULL);
CREATE TABLE finding (
	id TEXT PRIMARY KEY, kind TEXT NOT NULL, subject TEXT NOT NULL, message TEXT NOT NULL, evidence TEXT NOT NULL, remedy TEXT NOT NULL,
	address TEXT NOT NULL, severity TEXT NOT NULL, opened_at TEXT NOT NULL, seen_at TEXT NOT NULL, closed_at TEXT,
	acknowledged_at TEXT, acknowledged_by TEXT NOT NULL DEFAULT '', acknowledged_until TEXT, acknowledge_reason TEXT NOT NULL DEFAULT '');
CREATE TABLE firing (
	rule TEXT NOT NULL, at TEXT NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '',
	missed INTEGER NOT NULL DEFAULT 0, tries INTEGER NOT NULL DEFAULT 0, next_try TEXT, plan TEXT NOT NULL DEFAULT '', run TEXT NOT NULL DEFAULT '',
	due INTEGER NOT NULL DEFAULT 0, began_at TEXT NOT NULL, ended_at TEXT, asked_by TEXT NOT NULL DEFAULT '', PRIMARY KEY (rule, at)) WITHOUT ROWID;
CREATE TABLE freeze (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, reason TEXT NOT NULL, until TEXT,
	placed_at TEXT NOT NULL, placed_by TEXT NOT NULL, lifted_at TEXT, lifted_by TEXT NOT NULL DEFAULT '', lift_reason TEXT NOT NULL DEFAULT '');
CREATE TABLE goose_db_version (
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		version_id INTEGER NOT NULL,
		is_applied INTEGER NOT NULL,
		tstamp TIMESTAMP DEFAULT (datetime('now'))
	);
CREATE TABLE guard (
	source TEXT PRIMARY KEY REFERENCES source (name), body TEXT NOT NULL, set_at TEXT NOT NULL, set_by TEXT NOT NULL);
CREATE TABLE hold (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, filter TEXT NOT NULL, segments TEXT NOT NULL,
	reference TEXT NOT NULL, reason TEXT NOT NULL, placed_at TEXT NOT NULL, placed_by TEXT NOT NULL,
	lifted_at TEXT, lifted_by TEXT NOT NULL DEFAULT '', lift_reason TEXT NOT NULL DEFAULT '');
CREATE TABLE inflow (
	rule TEXT PRIMARY KEY, revision INTEGER NOT NULL, at TEXT NOT NULL, per_day REAL NOT NULL, days INTEGER NOT NULL, due INTEGER NOT NULL, problem TEXT NOT NULL);
CREATE TABLE job_turn (
	kind TEXT NOT NULL, id TEXT NOT NULL, priority INTEGER NOT NULL DEFAULT 0, paused_at TEXT, paused_by TEXT NOT NULL DEFAULT '',
	PRIMARY KEY (kind, id)) WITHOUT ROWID;
CREATE TABLE keep (
	name TEXT PRIMARY KEY, body TEXT NOT NULL, text TEXT NOT NULL, applied_at TEXT NOT NULL, applied_by TEXT NOT NULL);
CREATE TABLE known_browser (hash TEXT PRIMARY KEY, account TEXT NOT NULL, at TEXT NOT NULL);
CREATE TABLE lineage (
	source TEXT NOT NULL, table_name TEXT NOT NULL, identity TEXT NOT NULL, server TEXT NOT NULL, epoch INTEGER NOT NULL, settled INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (source, table_name)) WITHOUT ROWID;
CREATE TABLE news (
	seq INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT NOT NULL, kind TEXT NOT NULL, title TEXT NOT NULL, severity TEXT NOT NULL,
	source TEXT NOT NULL, rule TEXT NOT NULL, address TEXT NOT NULL);
CREATE TABLE off_schedule (
	id TEXT PRIMARY KEY, rule TEXT NOT NULL, reason TEXT NOT NULL, until TEXT, until_done INTEGER NOT NULL, placed_at TEXT NOT NULL,
	placed_by TEXT NOT NULL, lifted_at TEXT, lifted_by TEXT NOT NULL DEFAULT '', lift_reason TEXT NOT NULL DEFAULT '');
CREATE TABLE plan (
	id TEXT PRIMARY KEY, rule TEXT NOT NULL, revision INTEGER NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL,
	cutoff TEXT NOT NULL, made_at TEXT NOT NULL, counts TEXT NOT NULL, batches INTEGER NOT NULL, segments INTEGER NOT NULL,
	warnings TEXT NOT NULL, shape TEXT NOT NULL, detail TEXT NOT NULL DEFAULT '{}', thin INTEGER NOT NULL DEFAULT 0, made_by TEXT NOT NULL DEFAULT '');
CREATE TABLE recipient (name TEXT PRIMARY KEY, body TEXT NOT NULL, set_at TEXT NOT NULL, set_by TEXT NOT NULL, digested_to TEXT NOT NULL);
CREATE TABLE restore (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, scope TEXT NOT NULL, target TEXT NOT NULL, format TEXT NOT NULL,
	note TEXT NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, ended_at TEXT, created_by TEXT NOT NULL,
	segments INTEGER NOT NULL DEFAULT 0, found INTEGER NOT NULL DEFAULT 0, restored INTEGER NOT NULL DEFAULT 0, skipped INTEGER NOT NULL DEFAULT 0,
	digest TEXT NOT NULL DEFAULT '', verified INTEGER, file TEXT NOT NULL DEFAULT '', file_bytes INTEGER NOT NULL DEFAULT 0, target_source TEXT NOT NULL DEFAULT '', target_table TEXT NOT NULL DEFAULT '', lasts TEXT NOT NULL DEFAULT '', expires_at TEXT, expired_at TEXT, taken_back INTEGER NOT NULL DEFAULT 0, stayed INTEGER NOT NULL DEFAULT 0, fit TEXT NOT NULL DEFAULT '{}', conflicts TEXT NOT NULL DEFAULT 'skip', replaced INTEGER NOT NULL DEFAULT 0, pace TEXT NOT NULL DEFAULT '', of_rows INTEGER NOT NULL DEFAULT 0, approved_by TEXT NOT NULL DEFAULT '', approved_at TEXT, tell TEXT NOT NULL DEFAULT '', told_at TEXT, begun INTEGER NOT NULL DEFAULT 0);
CREATE TABLE retrieval (
	id TEXT PRIMARY KEY, segment TEXT NOT NULL, store TEXT NOT NULL, priority TEXT NOT NULL, days INTEGER NOT NULL, bytes INTEGER NOT NULL, price REAL, currency TEXT NOT NULL DEFAULT '',
	state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', note TEXT NOT NULL, created_at TEXT NOT NULL, created_by TEXT NOT NULL, expected_at TEXT, ready_at TEXT, until TEXT);
CREATE TABLE rule (
	name TEXT PRIMARY KEY, revision INTEGER NOT NULL, source TEXT NOT NULL REFERENCES source (name), table_name TEXT NOT NULL, fired_to TEXT,
	UNIQUE (source, table_name));
CREATE TABLE rule_revision (
	rule TEXT NOT NULL REFERENCES rule (name), revision INTEGER NOT NULL, text TEXT NOT NULL, body TEXT NOT NULL,
	changes TEXT NOT NULL, applied_at TEXT NOT NULL, applied_by TEXT NOT NULL, shape TEXT NOT NULL DEFAULT '{}', reason TEXT NOT NULL DEFAULT '', PRIMARY KEY (rule, revision));
CREATE TABLE run (
	id TEXT PRIMARY KEY, plan TEXT NOT NULL REFERENCES plan (id), rule TEXT NOT NULL, revision INTEGER NOT NULL, source TEXT NOT NULL,
	table_name TEXT NOT NULL, action TEXT NOT NULL, store TEXT NOT NULL, pace TEXT NOT NULL, cutoff TEXT NOT NULL, due INTEGER NOT NULL,
	state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, started_at TEXT, ended_at TEXT,
	working_micros INTEGER NOT NULL DEFAULT 0,
	copied INTEGER NOT NULL DEFAULT 0, deleted INTEGER NOT NULL DEFAULT 0, unlinked INTEGER NOT NULL DEFAULT 0, changed INTEGER NOT NULL DEFAULT 0,
	vanished INTEGER NOT NULL DEFAULT 0, held INTEGER NOT NULL DEFAULT 0, skipped INTEGER NOT NULL DEFAULT 0,
	copied_digest TEXT NOT NULL DEFAULT '', deleted_digest TEXT NOT NULL DEFAULT '', left_digest TEXT NOT NULL DEFAULT '', balanced INTEGER,
	raw_bytes INTEGER NOT NULL DEFAULT 0, file_bytes INTEGER NOT NULL DEFAULT 0,
	slices INTEGER NOT NULL DEFAULT 0, position TEXT NOT NULL DEFAULT '', closed TEXT NOT NULL DEFAULT '{}', passes TEXT NOT NULL DEFAULT '[]', pass INTEGER NOT NULL DEFAULT 0, row_limit INTEGER NOT NULL DEFAULT 0, deleting INTEGER NOT NULL DEFAULT 0, delete_at TEXT, log_bytes INTEGER, resume_at TEXT, window_from TEXT, window_began TEXT, window_rows INTEGER NOT NULL DEFAULT 0, last_window_rows INTEGER NOT NULL DEFAULT 0, windows_left INTEGER, parts TEXT NOT NULL DEFAULT '[]', emptying INTEGER NOT NULL DEFAULT 0, cancelling INTEGER NOT NULL DEFAULT 0, start_at TEXT, priority INTEGER NOT NULL DEFAULT 0, scheduled TEXT, retries INTEGER NOT NULL DEFAULT 0, purged INTEGER NOT NULL DEFAULT 0, unmet_since TEXT, entered INTEGER NOT NULL DEFAULT 0, started_by TEXT NOT NULL DEFAULT '');
CREATE TABLE schedule (name TEXT PRIMARY KEY, body TEXT NOT NULL, text TEXT NOT NULL, applied_at TEXT NOT NULL, applied_by TEXT NOT NULL);
CREATE TABLE segment (
	id TEXT PRIMARY KEY, run TEXT NOT NULL, number INTEGER NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL,
	store TEXT NOT NULL, stem TEXT NOT NULL UNIQUE, state TEXT NOT NULL, row_count INTEGER NOT NULL DEFAULT 0, raw_bytes INTEGER NOT NULL DEFAULT 0,
	file_bytes INTEGER NOT NULL DEFAULT 0, oldest TEXT NOT NULL DEFAULT '', newest TEXT NOT NULL DEFAULT '',
	deleted INTEGER NOT NULL DEFAULT 0, changed INTEGER NOT NULL DEFAULT 0, vanished INTEGER NOT NULL DEFAULT 0, held INTEGER NOT NULL DEFAULT 0,
	skipped INTEGER NOT NULL DEFAULT 0, digest TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, closed_at TEXT, verified_at TEXT, keep_until TEXT,
	sequence INTEGER NOT NULL DEFAULT 0, manifest_hash TEXT NOT NULL DEFAULT '', closing_sequence INTEGER NOT NULL DEFAULT 0, closing_hash TEXT NOT NULL DEFAULT '', clause INTEGER NOT NULL DEFAULT 0, part TEXT NOT NULL DEFAULT '', second TEXT NOT NULL DEFAULT '', second_at TEXT, damage TEXT NOT NULL DEFAULT '', disposal TEXT NOT NULL DEFAULT '', disposed_at TEXT, disposal_sequence INTEGER NOT NULL DEFAULT 0, disposal_hash TEXT NOT NULL DEFAULT '', rows_store TEXT NOT NULL DEFAULT '', leaving TEXT NOT NULL DEFAULT '', cold INTEGER NOT NULL DEFAULT 0, warm_until TEXT, want_second TEXT NOT NULL DEFAULT '', cold_store TEXT NOT NULL DEFAULT '', cold_at TEXT, rewrites TEXT NOT NULL DEFAULT '', rule TEXT NOT NULL DEFAULT '', erased INTEGER NOT NULL DEFAULT 0, moving TEXT NOT NULL DEFAULT '', shape INTEGER, span INTEGER, moving_by TEXT NOT NULL DEFAULT '', moving_at TEXT);
CREATE TABLE segment_shape (id INTEGER PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, columns TEXT NOT NULL, numbered TEXT NOT NULL, key TEXT NOT NULL, newest TEXT NOT NULL DEFAULT '', segments INTEGER NOT NULL DEFAULT 0,
	UNIQUE (source, table_name, columns, numbered, key));
CREATE VIRTUAL TABLE segment_span USING rtree (id, shape_low, shape_high, low1, high1, low2, high2);
CREATE TABLE segment_sum (store TEXT NOT NULL, rows_store TEXT NOT NULL, second TEXT NOT NULL, want_second TEXT NOT NULL, damaged INTEGER NOT NULL,
	segments INTEGER NOT NULL, deleted INTEGER NOT NULL, raw_bytes INTEGER NOT NULL, file_bytes INTEGER NOT NULL, PRIMARY KEY (store, rows_store, second, want_second, damaged)) WITHOUT ROWID;
CREATE TABLE session (
	id TEXT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, account TEXT NOT NULL, begun_at TEXT NOT NULL, expires_at TEXT NOT NULL, used_at TEXT NOT NULL,
	address TEXT NOT NULL, agent TEXT NOT NULL);
CREATE TABLE setting (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE slowdown (
	run TEXT NOT NULL REFERENCES run (id), begun TEXT NOT NULL, ended TEXT, rests INTEGER NOT NULL, reason TEXT NOT NULL, PRIMARY KEY (run, begun)) WITHOUT ROWID;
CREATE TABLE source (
	name TEXT PRIMARY KEY, engine TEXT NOT NULL, address TEXT NOT NULL, password_env TEXT NOT NULL, password_file TEXT NOT NULL,
	tls TEXT NOT NULL, tls_ca TEXT NOT NULL, connections INTEGER NOT NULL, disk TEXT NOT NULL DEFAULT '', origin TEXT NOT NULL DEFAULT '');
CREATE TABLE step (
	id TEXT PRIMARY KEY, run TEXT NOT NULL, rule TEXT NOT NULL, phase TEXT NOT NULL, number INTEGER NOT NULL, what TEXT NOT NULL,
	began_at TEXT NOT NULL, ended_at TEXT, outcome TEXT NOT NULL, output TEXT NOT NULL DEFAULT '', tries INTEGER NOT NULL DEFAULT 1);
CREATE TABLE store (name TEXT PRIMARY KEY, kind TEXT NOT NULL, path TEXT NOT NULL UNIQUE, second TEXT NOT NULL DEFAULT '', scrub TEXT NOT NULL DEFAULT '{}', bucket TEXT NOT NULL DEFAULT '{}', seal TEXT NOT NULL DEFAULT '{}', tariff TEXT NOT NULL DEFAULT '{}', identity TEXT NOT NULL DEFAULT '');
CREATE TABLE store_size (
	day TEXT NOT NULL, store TEXT NOT NULL, bytes INTEGER NOT NULL, segments INTEGER NOT NULL, free INTEGER NOT NULL,
	PRIMARY KEY (day, store)) WITHOUT ROWID;
CREATE TABLE table_size (
	source TEXT NOT NULL, table_name TEXT NOT NULL, at TEXT NOT NULL, row_count INTEGER NOT NULL, bytes INTEGER NOT NULL,
	PRIMARY KEY (source, table_name, at)) WITHOUT ROWID;
CREATE TABLE usual (
	source TEXT NOT NULL, hour INTEGER NOT NULL, kind TEXT NOT NULL, spread TEXT NOT NULL, at TEXT NOT NULL,
	PRIMARY KEY (source, hour, kind)) WITHOUT ROWID;
CREATE TABLE verification (
	id TEXT PRIMARY KEY, store TEXT NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL, older TEXT, repair INTEGER NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '',
	created_at TEXT NOT NULL, created_by TEXT NOT NULL, ended_at TEXT,
	segments INTEGER NOT NULL DEFAULT 0, of_segments INTEGER NOT NULL DEFAULT 0, row_count INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0, of_bytes INTEGER NOT NULL DEFAULT 0,
	wrong INTEGER NOT NULL DEFAULT 0, repaired INTEGER NOT NULL DEFAULT 0, findings TEXT NOT NULL DEFAULT '[]');
CREATE UNIQUE INDEX account_identity ON account (issuer, identity) WHERE identity <> '';
CREATE INDEX approval_asked ON approval (asked_at, id);
CREATE INDEX approval_open ON approval (state) WHERE state IN ('waiting', 'granted');
CREATE INDEX approval_subject ON approval (subject, what, asked_at);
CREATE INDEX audit_actor ON audit (actor, at, id);
CREATE INDEX audit_at ON audit (at, id);
CREATE INDEX audit_export_made ON audit_export (made_at, id);
CREATE INDEX audit_kind ON audit (kind, at, id);
CREATE INDEX audit_outcome ON audit (outcome, at, id) WHERE outcome <> 'done';
CREATE INDEX audit_subject ON audit (subject, at, id);
CREATE INDEX delivery_ended ON delivery (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX delivery_recipient ON delivery (recipient, seq);
CREATE INDEX delivery_state ON delivery (state, seq);
CREATE INDEX delivery_waiting ON delivery (recipient, address, urgent, seq) WHERE state = 'waiting';
CREATE INDEX disposal_created ON disposal (created_at);
CREATE INDEX finding_closed ON finding (closed_at) WHERE closed_at IS NOT NULL;
CREATE UNIQUE INDEX finding_open ON finding (kind, subject) WHERE closed_at IS NULL;
CREATE INDEX finding_opened ON finding (opened_at, id);
CREATE INDEX firing_at ON firing (at, rule);
CREATE INDEX firing_open ON firing (state, at) WHERE state IN ('due', 'asking');
CREATE INDEX firing_plan ON firing (plan) WHERE plan <> '';
CREATE INDEX freeze_stands ON freeze (placed_at) WHERE lifted_at IS NULL;
CREATE INDEX hold_table ON hold (source, table_name) WHERE lifted_at IS NULL;
CREATE UNIQUE INDEX off_schedule_stands ON off_schedule (rule) WHERE lifted_at IS NULL;
CREATE INDEX plan_made ON plan (made_at);
CREATE INDEX plan_rule ON plan (rule, made_at);
CREATE INDEX plan_whole ON plan (made_at) WHERE NOT thin;
CREATE INDEX restore_created ON restore (created_at);
CREATE INDEX restore_lasts ON restore (expires_at) WHERE lasts <> '';
CREATE INDEX restore_state ON restore (state, created_at);
CREATE INDEX restore_untold ON restore (created_at) WHERE tell <> '' AND told_at IS NULL;
CREATE INDEX retrieval_created ON retrieval (created_at);
CREATE INDEX retrieval_state ON retrieval (state);
CREATE INDEX rule_source ON rule (source, name);
CREATE UNIQUE INDEX run_active ON run (source, table_name) WHERE state NOT IN ('done', 'cancelled');
CREATE INDEX run_created ON run (created_at);
CREATE INDEX run_ended ON run (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX run_plan ON run (plan);
CREATE INDEX run_purged ON run (purged) WHERE purged > 0;
CREATE INDEX run_rule ON run (rule, created_at);
CREATE INDEX run_source ON run (source, created_at);
CREATE INDEX run_state ON run (state, created_at);
CREATE INDEX run_table ON run (source, table_name, created_at);
CREATE INDEX run_waiting ON run (priority DESC, created_at, id) WHERE state = 'queued';
CREATE INDEX segment_checked ON segment (store, verified_at) WHERE state IN ('open', 'closed');
CREATE INDEX segment_closing_link ON segment (source, table_name, closing_sequence);
CREATE INDEX segment_cold ON segment (rows_store, verified_at) WHERE state = 'closed' AND cold = 1;
CREATE INDEX segment_cool ON segment (cold_at) WHERE state = 'closed' AND rows_store = '' AND cold_store <> '' AND leaving = '' AND damage = '';
CREATE INDEX segment_copies ON segment (store, want_second, second, created_at) WHERE state = 'closed' AND leaving = '' AND cold = 0;
CREATE INDEX segment_created ON segment (created_at, number);
CREATE INDEX segment_damaged ON segment (created_at) WHERE damage <> '' AND state IN ('open', 'closed');
CREATE INDEX segment_disposal_link ON segment (source, table_name, disposal_sequence);
CREATE INDEX segment_in_rows ON segment (rows_store, created_at) WHERE rows_store <> '';
CREATE INDEX segment_in_second ON segment (second, created_at) WHERE second <> '';
CREATE INDEX segment_in_store ON segment (store, created_at);
CREATE INDEX segment_leaving ON segment (created_at) WHERE leaving <> '' AND state = 'closed';
CREATE INDEX segment_link ON segment (source, table_name, sequence);
CREATE INDEX segment_moving ON segment (created_at) WHERE moving <> '';
CREATE INDEX segment_of_table ON segment (source, table_name, created_at, number);
CREATE INDEX segment_run ON segment (run, number);
CREATE UNIQUE INDEX segment_spanned ON segment (span) WHERE span IS NOT NULL;
CREATE INDEX segment_table ON segment (source, table_name, state);
CREATE INDEX segment_unspanned ON segment (source, table_name, created_at) WHERE span IS NULL AND state IN ('open', 'closed');
CREATE INDEX segment_unspanned_id ON segment (id) WHERE span IS NULL AND state IN ('open', 'closed');
CREATE INDEX segment_verified ON segment (coalesce(nullif(rows_store, ''), store), coalesce(verified_at, '')) WHERE state = 'closed' AND cold = 0;
CREATE INDEX session_account ON session (account);
CREATE INDEX step_began ON step (began_at);
CREATE INDEX step_rule ON step (rule, id);
CREATE INDEX step_run ON step (run, id);
CREATE INDEX table_size_at ON table_size (at);
CREATE INDEX verification_created ON verification (created_at);
CREATE TRIGGER approval_asked AFTER INSERT ON approval WHEN NEW.what NOT IN ('restores', 'disposals', 'erasures') AND EXISTS (SELECT 1 FROM recipient) BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('approval-asked', NEW.id, NEW.asked_at,
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'subject', NEW.what, 'numbers', json('{}')));
END;
CREATE TRIGGER disposal_happened AFTER UPDATE OF state ON disposal WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('disposal-' || NEW.state, NEW.id, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
CREATE TRIGGER disposal_item_changed AFTER UPDATE ON disposal_item BEGIN
	UPDATE disposal SET row_count = row_count + (NEW.item ->> '$.rows') - coalesce(NEW.item ->> '$.kept', 0) - (OLD.item ->> '$.rows') + coalesce(OLD.item ->> '$.kept', 0),
		bytes = bytes + (NEW.item ->> '$.bytes') - (OLD.item ->> '$.bytes'), gone = gone + (NEW.item ->> '$.destroyed' IS NOT NULL) - (OLD.item ->> '$.destroyed' IS NOT NULL) WHERE id = NEW.disposal;
END;
CREATE TRIGGER disposal_item_made AFTER INSERT ON disposal_item BEGIN
	UPDATE disposal SET segments = segments + 1, row_count = row_count + (NEW.item ->> '$.rows') - coalesce(NEW.item ->> '$.kept', 0), bytes = bytes + (NEW.item ->> '$.bytes'),
		gone = gone + (NEW.item ->> '$.destroyed' IS NOT NULL) WHERE id = NEW.disposal;
END;
CREATE TRIGGER disposal_planned AFTER INSERT ON disposal WHEN NEW.state = 'planned' BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('disposal-planned', NEW.id, NEW.created_at,
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
CREATE TRIGGER disposal_stay_made AFTER INSERT ON disposal_stay BEGIN
	UPDATE disposal SET staying = staying + 1 WHERE id = NEW.disposal;
END;
CREATE TRIGGER finding_found AFTER INSERT ON finding BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.kind WHEN 'waits long' THEN 'waits-long' ELSE 'finding-opened' END, NEW.id, NEW.opened_at,
		json_object('finding', NEW.kind, 'subject', NEW.subject, 'severity', NEW.severity, 'numbers', json('{}'),
			'rule', CASE WHEN NEW.address LIKE '#/rules/%' THEN substr(NEW.address, 9) WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT rule FROM run WHERE id = substr(NEW.address, 8)), '') ELSE '' END,
			'source', CASE WHEN NEW.address LIKE '#/rules/%' THEN coalesce((SELECT source FROM rule WHERE name = substr(NEW.address, 9)), '')
				WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT source FROM run WHERE id = substr(NEW.address, 8)), '')
				WHEN NEW.address LIKE '#/tables/%/%' THEN substr(NEW.address, 10, instr(substr(NEW.address, 10), '/') - 1) ELSE '' END));
END;
CREATE TRIGGER finding_over AFTER UPDATE OF closed_at ON finding WHEN OLD.closed_at IS NULL AND NEW.closed_at IS NOT NULL BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('finding-closed', NEW.id, NEW.closed_at,
		json_object('finding', NEW.kind, 'subject', NEW.subject, 'severity', NEW.severity, 'numbers', json('{}'),
			'rule', CASE WHEN NEW.address LIKE '#/rules/%' THEN substr(NEW.address, 9) WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT rule FROM run WHERE id = substr(NEW.address, 8)), '') ELSE '' END,
			'source', CASE WHEN NEW.address LIKE '#/rules/%' THEN coalesce((SELECT source FROM rule WHERE name = substr(NEW.address, 9)), '')
				WHEN NEW.address LIKE '#/runs/%' THEN coalesce((SELECT source FROM run WHERE id = substr(NEW.address, 8)), '')
				WHEN NEW.address LIKE '#/tables/%/%' THEN substr(NEW.address, 10, instr(substr(NEW.address, 10), '/') - 1) ELSE '' END));
END;
CREATE TRIGGER firing_happened AFTER UPDATE OF state ON firing WHEN NEW.state <> OLD.state AND NEW.state IN ('nothing', 'asking', 'failed') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.state WHEN 'nothing' THEN 'nothing-due' WHEN 'asking' THEN 'over-limit' ELSE 'firing-failed' END,
		NEW.rule || ' ' || NEW.at, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', CASE NEW.state WHEN 'asking' THEN json_object('due', NEW.due) ELSE json('{}') END));
END;
CREATE TRIGGER freeze_lifted AFTER UPDATE OF lifted_at ON freeze WHEN OLD.lifted_at IS NULL AND NEW.lifted_at IS NOT NULL BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('unfrozen', NEW.id, NEW.lifted_at, json_object('source', NEW.source, 'table', NEW.table_name, 'numbers', json('{}')));
END;
CREATE TRIGGER freeze_placed AFTER INSERT ON freeze BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('frozen', NEW.id, NEW.placed_at,
		json_object('source', NEW.source, 'table', NEW.table_name, 'until', coalesce(NEW.until, ''), 'numbers', json('{}')));
END;
CREATE TRIGGER restore_asked AFTER INSERT ON restore WHEN NEW.state = 'asked' BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('restore-asked', NEW.id, NEW.created_at,
		json_object('source', NEW.source, 'table', NEW.table_name, 'target', NEW.target, 'numbers', json('{}')));
END;
CREATE TRIGGER restore_happened AFTER UPDATE OF state ON restore WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed', 'refused') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES (CASE NEW.state WHEN 'done' THEN 'restore-ready' ELSE 'restore-' || NEW.state END, NEW.id,
		coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')), json_object('source', NEW.source, 'table', NEW.table_name, 'target', NEW.target, 'tell', NEW.tell,
			'until', coalesce(NEW.expires_at, ''), 'numbers', CASE NEW.state WHEN 'done' THEN json_object('restored', NEW.restored, 'skipped', NEW.skipped) ELSE json('{}') END));
END;
CREATE TRIGGER run_happened AFTER UPDATE OF state ON run WHEN NEW.state <> OLD.state AND NEW.state IN ('done', 'failed', 'cancelled', 'copied') BEGIN
	INSERT INTO event (kind, record, at, detail) VALUES ('run-' || NEW.state, NEW.id, coalesce(NEW.ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
		json_object('rule', NEW.rule, 'source', NEW.source, 'table', NEW.table_name, 'numbers', json_object('due', NEW.due, 'copied', NEW.copied, 'deleted', NEW.deleted,
			'left', NEW.changed + NEW.vanished + NEW.held + NEW.skipped)));
END;
CREATE TRIGGER segment_span_deleted AFTER DELETE ON segment WHEN OLD.span IS NOT NULL BEGIN
	DELETE FROM segment_span WHERE id = OLD.span;
	UPDATE segment_shape SET segments = segments - 1 WHERE id = OLD.shape;
END;
CREATE TRIGGER segment_span_gone AFTER UPDATE OF state ON segment WHEN NEW.state NOT IN ('open', 'closed') AND OLD.span IS NOT NULL BEGIN
	DELETE FROM segment_span WHERE id = OLD.span;
	UPDATE segment_shape SET segments = segments - 1 WHERE id = OLD.shape;
	UPDATE segment SET span = NULL, shape = NULL WHERE id = NEW.id;
END;
CREATE TRIGGER segment_summed_gone AFTER DELETE ON segment WHEN OLD.state IN ('open', 'closed') BEGIN
	UPDATE segment_sum SET segments = segments - 1, deleted = deleted - OLD.deleted, raw_bytes = raw_bytes - OLD.raw_bytes, file_bytes = file_bytes - OLD.file_bytes
		WHERE store = OLD.store AND rows_store = OLD.rows_store AND second = OLD.second AND want_second = OLD.want_second AND damaged = (OLD.damage <> '');
END;
CREATE TRIGGER segment_summed_is AFTER UPDATE ON segment WHEN NEW.state IN ('open', 'closed') BEGIN
	INSERT INTO segment_sum VALUES (NEW.store, NEW.rows_store, NEW.second, NEW.want_second, NEW.damage <> '', 1, NEW.deleted, NEW.raw_bytes, NEW.file_bytes)
		ON CONFLICT DO UPDATE SET segments = segments + 1, deleted = deleted + excluded.deleted, raw_bytes = raw_bytes + excluded.raw_bytes, file_bytes = file_bytes + excluded.file_bytes;
END;
CREATE TRIGGER segment_summed_new AFTER INSERT ON segment WHEN NEW.state IN ('open', 'closed') BEGIN
	INSERT INTO segment_sum VALUES (NEW.store, NEW.rows_store, NEW.second, NEW.want_second, NEW.damage <> '', 1, NEW.deleted, NEW.raw_bytes, NEW.file_bytes)
		ON CONFLICT DO UPDATE SET segments = segments + 1, deleted = deleted + excluded.deleted, raw_bytes = raw_bytes + excluded.raw_bytes, file_bytes = file_bytes + excluded.file_bytes;
END;
CREATE TRIGGER segment_summed_was BEFORE UPDATE ON segment WHEN OLD.state IN ('open', 'closed') BEGIN
	UPDATE segment_sum SET segments = segments - 1, deleted = deleted - OLD.deleted, raw_bytes = raw_bytes - OLD.raw_bytes, file_bytes = file_bytes - OLD.file_bytes
		WHERE store = OLD.store AND rows_store = OLD.rows_store AND second = OLD.second AND want_second = OLD.want_second AND damaged = (OLD.damage <> '');
END;
