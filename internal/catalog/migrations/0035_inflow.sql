-- +goose Up
-- How many rows become due by a rule each day, as it was counted last over so many days to come, and how many were due then by the database's
-- statistics; with what kept it from being counted, if anything did.
CREATE TABLE inflow (
	rule TEXT PRIMARY KEY, revision INTEGER NOT NULL, at TEXT NOT NULL, per_day REAL NOT NULL, days INTEGER NOT NULL, due INTEGER NOT NULL, problem TEXT NOT NULL);
