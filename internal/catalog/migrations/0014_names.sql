-- +goose Up
CREATE TABLE column_name (source TEXT NOT NULL, table_name TEXT NOT NULL, name TEXT NOT NULL, was TEXT NOT NULL, told_at TEXT NOT NULL, told_by TEXT NOT NULL,
	PRIMARY KEY (source, table_name, name, was));
