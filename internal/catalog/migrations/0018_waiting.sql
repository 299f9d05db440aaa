-- +goose Up
-- Where a segment's rows are being moved to, from before the first byte is copied, so that a move that is interrupted is taken up again.
ALTER TABLE segment ADD COLUMN moving TEXT NOT NULL DEFAULT '';
CREATE INDEX segment_moving ON segment (created_at) WHERE moving <> '';

-- What pages of lists are of.
CREATE INDEX run_source ON run (source, created_at);
CREATE INDEX run_table ON run (source, table_name, created_at);
CREATE INDEX rule_source ON rule (source, name);
CREATE INDEX plan_made ON plan (made_at);
