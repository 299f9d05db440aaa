-- +goose Up
-- Where the time of runs went on a day, in UTC, by source: in stages of the work, and in rests by their reasons.
CREATE TABLE effort_sum (
	day TEXT NOT NULL, source TEXT NOT NULL, kind TEXT NOT NULL, name TEXT NOT NULL, micros INTEGER NOT NULL, times INTEGER NOT NULL,
	PRIMARY KEY (day, source, kind, name)) WITHOUT ROWID;
-- For how long the runs worked that ended on a day.
ALTER TABLE day_sum ADD COLUMN working_micros INTEGER NOT NULL DEFAULT 0;
UPDATE day_sum SET working_micros = coalesce((SELECT sum(r.working_micros) FROM run r WHERE r.rule = day_sum.rule AND r.revision = day_sum.revision
	AND substr(r.ended_at, 1, 10) = day_sum.day), 0);
-- How large a store was at the end of a day, in UTC, or so far.
CREATE TABLE store_size (
	day TEXT NOT NULL, store TEXT NOT NULL, bytes INTEGER NOT NULL, segments INTEGER NOT NULL, free INTEGER NOT NULL,
	PRIMARY KEY (day, store)) WITHOUT ROWID;
