-- +goose Up
-- How runs went, moment after moment; and how long probes of a source usually take, by hour of the week in UTC (0: the
-- one that begins on Monday at 00:00), while nobody of us is at work.
CREATE TABLE course (run TEXT PRIMARY KEY, course TEXT NOT NULL);
CREATE TABLE usual (
	source TEXT NOT NULL, hour INTEGER NOT NULL, kind TEXT NOT NULL, spread TEXT NOT NULL, at TEXT NOT NULL,
	PRIMARY KEY (source, hour, kind)) WITHOUT ROWID;
