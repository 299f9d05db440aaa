-- +goose Up
-- Where a segment's rows are being moved to, from before the first byte is copied, so that a move that is interrupted is taken up again.
ALTER TABLE segment ADD COLUMN moving TEXT NOT NULL DEFAULT '';
CREATE INDEX segment_moving ON segment (moving) WHERE moving <> '';
