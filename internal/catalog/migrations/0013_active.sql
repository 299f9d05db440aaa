-- +goose Up
DROP INDEX run_active;
CREATE UNIQUE INDEX run_active ON run (source, table_name) WHERE state NOT IN ('done', 'cancelled');
