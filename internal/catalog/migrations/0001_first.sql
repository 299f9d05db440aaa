-- +goose Up
CREATE TABLE setting (name TEXT PRIMARY KEY, value TEXT NOT NULL);

CREATE TABLE source (
	name TEXT PRIMARY KEY, engine TEXT NOT NULL, address TEXT NOT NULL, password_env TEXT NOT NULL, password_file TEXT NOT NULL,
	tls TEXT NOT NULL, tls_ca TEXT NOT NULL, connections INTEGER NOT NULL);

CREATE TABLE store (name TEXT PRIMARY KEY, kind TEXT NOT NULL, path TEXT NOT NULL UNIQUE);

CREATE TABLE rule (
	name TEXT PRIMARY KEY, revision INTEGER NOT NULL, source TEXT NOT NULL REFERENCES source (name), table_name TEXT NOT NULL,
	UNIQUE (source, table_name));

CREATE TABLE rule_revision (
	rule TEXT NOT NULL REFERENCES rule (name), revision INTEGER NOT NULL, text TEXT NOT NULL, body TEXT NOT NULL,
	changes TEXT NOT NULL, applied_at TEXT NOT NULL, applied_by TEXT NOT NULL, PRIMARY KEY (rule, revision));

CREATE TABLE plan (
	id TEXT PRIMARY KEY, rule TEXT NOT NULL, revision INTEGER NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL,
	cutoff TEXT NOT NULL, made_at TEXT NOT NULL, survey TEXT NOT NULL, batches INTEGER NOT NULL, segments INTEGER NOT NULL,
	warnings TEXT NOT NULL, shape TEXT NOT NULL);
CREATE INDEX plan_rule ON plan (rule, made_at);

CREATE TABLE run (
	id TEXT PRIMARY KEY, plan TEXT NOT NULL REFERENCES plan (id), rule TEXT NOT NULL, revision INTEGER NOT NULL, source TEXT NOT NULL,
	table_name TEXT NOT NULL, action TEXT NOT NULL, store TEXT NOT NULL, pace TEXT NOT NULL, cutoff TEXT NOT NULL, due INTEGER NOT NULL,
	state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, started_at TEXT, ended_at TEXT,
	working_micros INTEGER NOT NULL DEFAULT 0,
	copied INTEGER NOT NULL DEFAULT 0, deleted INTEGER NOT NULL DEFAULT 0, unlinked INTEGER NOT NULL DEFAULT 0, changed INTEGER NOT NULL DEFAULT 0,
	vanished INTEGER NOT NULL DEFAULT 0, held INTEGER NOT NULL DEFAULT 0, skipped INTEGER NOT NULL DEFAULT 0,
	copied_digest TEXT NOT NULL DEFAULT '', deleted_digest TEXT NOT NULL DEFAULT '', left_digest TEXT NOT NULL DEFAULT '', balanced INTEGER,
	raw_bytes INTEGER NOT NULL DEFAULT 0, file_bytes INTEGER NOT NULL DEFAULT 0,
	slices INTEGER NOT NULL DEFAULT 0, position TEXT NOT NULL DEFAULT '', closed TEXT NOT NULL DEFAULT '{}');
CREATE INDEX run_created ON run (created_at);
CREATE UNIQUE INDEX run_active ON run (source, table_name) WHERE state IN ('queued', 'running', 'paused', 'failed');

CREATE TABLE batch (
	run TEXT NOT NULL REFERENCES run (id), segment INTEGER NOT NULL, number INTEGER NOT NULL, retry INTEGER NOT NULL,
	row_count INTEGER NOT NULL, deleted INTEGER NOT NULL, changed INTEGER NOT NULL, vanished INTEGER NOT NULL, skipped INTEGER NOT NULL,
	micros INTEGER NOT NULL, at TEXT NOT NULL, PRIMARY KEY (run, segment, number)) WITHOUT ROWID;

CREATE TABLE segment (
	id TEXT PRIMARY KEY, run TEXT NOT NULL, number INTEGER NOT NULL, source TEXT NOT NULL, table_name TEXT NOT NULL,
	store TEXT NOT NULL, stem TEXT NOT NULL UNIQUE, state TEXT NOT NULL, row_count INTEGER NOT NULL DEFAULT 0, raw_bytes INTEGER NOT NULL DEFAULT 0,
	file_bytes INTEGER NOT NULL DEFAULT 0, oldest TEXT NOT NULL DEFAULT '', newest TEXT NOT NULL DEFAULT '',
	deleted INTEGER NOT NULL DEFAULT 0, changed INTEGER NOT NULL DEFAULT 0, vanished INTEGER NOT NULL DEFAULT 0, held INTEGER NOT NULL DEFAULT 0,
	skipped INTEGER NOT NULL DEFAULT 0, digest TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, closed_at TEXT, verified_at TEXT, keep_until TEXT,
	sequence INTEGER NOT NULL DEFAULT 0, manifest_hash TEXT NOT NULL DEFAULT '', closing_sequence INTEGER NOT NULL DEFAULT 0, closing_hash TEXT NOT NULL DEFAULT '');
CREATE INDEX segment_run ON segment (run, number);
CREATE INDEX segment_table ON segment (source, table_name, state);

CREATE TABLE restore (
	id TEXT PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, scope TEXT NOT NULL, target TEXT NOT NULL, format TEXT NOT NULL,
	note TEXT NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', created_at TEXT NOT NULL, ended_at TEXT, created_by TEXT NOT NULL,
	segments INTEGER NOT NULL DEFAULT 0, found INTEGER NOT NULL DEFAULT 0, restored INTEGER NOT NULL DEFAULT 0, skipped INTEGER NOT NULL DEFAULT 0,
	digest TEXT NOT NULL DEFAULT '', verified INTEGER, file TEXT NOT NULL DEFAULT '', file_bytes INTEGER NOT NULL DEFAULT 0);

CREATE TABLE session (hash TEXT PRIMARY KEY, expires_at TEXT NOT NULL);

CREATE TABLE audit (
	id INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, action TEXT NOT NULL, subject TEXT NOT NULL, detail TEXT NOT NULL);
