-- +goose Up
-- What was taken up from files in which sources, stores, keeps, schedules and rules are declared, as it was then.
CREATE TABLE declared (
	kind TEXT NOT NULL, name TEXT NOT NULL, file TEXT NOT NULL, text TEXT NOT NULL, taken_at TEXT NOT NULL,
	PRIMARY KEY (kind, name)) WITHOUT ROWID;
