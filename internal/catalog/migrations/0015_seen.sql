-- +goose Up
CREATE TABLE column_seen (source TEXT NOT NULL, table_name TEXT NOT NULL, numbered TEXT NOT NULL, number INTEGER NOT NULL, name TEXT NOT NULL,
	first_at TEXT NOT NULL, since TEXT NOT NULL, gone INTEGER NOT NULL, PRIMARY KEY (source, table_name, numbered, number, name));
ALTER TABLE lineage ADD COLUMN settled INTEGER NOT NULL DEFAULT 0;
