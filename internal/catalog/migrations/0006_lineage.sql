-- +goose Up
CREATE TABLE lineage (
	source TEXT NOT NULL, table_name TEXT NOT NULL, identity TEXT NOT NULL, server TEXT NOT NULL, epoch INTEGER NOT NULL, PRIMARY KEY (source, table_name)) WITHOUT ROWID;
ALTER TABLE source ADD COLUMN origin TEXT NOT NULL DEFAULT '';
