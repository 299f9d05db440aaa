-- +goose Up
-- Who asked for the move of a segment's rows, and when.
ALTER TABLE segment ADD COLUMN moving_by TEXT NOT NULL DEFAULT '';
ALTER TABLE segment ADD COLUMN moving_at TEXT;
UPDATE segment SET moving_by = 'service', moving_at = created_at WHERE moving <> '';
