-- +goose Up
-- Where a segment's rows are being moved to, from before the first byte is copied, so that a move that is interrupted is taken up again.
ALTER TABLE segment ADD COLUMN moving TEXT NOT NULL DEFAULT '';
CREATE INDEX segment_moving ON segment (created_at) WHERE moving <> '';

-- What pages of lists are of.
CREATE INDEX run_source ON run (source, created_at);
CREATE INDEX run_table ON run (source, table_name, created_at);
CREATE INDEX rule_source ON rule (source, name);
CREATE INDEX plan_made ON plan (made_at);

-- What keys segments can have: the columns of each archived table as they were, once for all segments that have them, and, for each segment, the span of the first two
-- columns of its key, made coarse. A look-up by key reads the records of those segments alone whose spans hold the key.
CREATE TABLE segment_shape (id INTEGER PRIMARY KEY, source TEXT NOT NULL, table_name TEXT NOT NULL, columns TEXT NOT NULL, numbered TEXT NOT NULL, key TEXT NOT NULL, newest TEXT NOT NULL DEFAULT '', segments INTEGER NOT NULL DEFAULT 0,
	UNIQUE (source, table_name, columns, numbered, key));
CREATE VIRTUAL TABLE segment_span USING rtree (id, shape_low, shape_high, low1, high1, low2, high2);
ALTER TABLE segment ADD COLUMN shape INTEGER;
ALTER TABLE segment ADD COLUMN span INTEGER;
CREATE UNIQUE INDEX segment_spanned ON segment (span) WHERE span IS NOT NULL;
CREATE INDEX segment_unspanned ON segment (source, table_name, created_at) WHERE span IS NULL AND state IN ('open', 'closed');
CREATE INDEX segment_unspanned_id ON segment (id) WHERE span IS NULL AND state IN ('open', 'closed');
-- +goose StatementBegin
CREATE TRIGGER segment_span_gone AFTER UPDATE OF state ON segment WHEN NEW.state NOT IN ('open', 'closed') AND OLD.span IS NOT NULL BEGIN
	DELETE FROM segment_span WHERE id = OLD.span;
	UPDATE segment_shape SET segments = segments - 1 WHERE id = OLD.shape;
	UPDATE segment SET span = NULL, shape = NULL WHERE id = NEW.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER segment_span_deleted AFTER DELETE ON segment WHEN OLD.span IS NOT NULL BEGIN
	DELETE FROM segment_span WHERE id = OLD.span;
	UPDATE segment_shape SET segments = segments - 1 WHERE id = OLD.shape;
END;
-- +goose StatementEnd

-- What the service's own records are found by when their time is over.
CREATE INDEX run_ended ON run (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX run_plan ON run (plan);

-- The segments of a disposal, each by itself, so that what becomes of one is kept without writing all of them anew.
CREATE TABLE disposal_item (disposal TEXT NOT NULL REFERENCES disposal (id), position INTEGER NOT NULL, item TEXT NOT NULL, PRIMARY KEY (disposal, position)) WITHOUT ROWID;
CREATE TABLE disposal_stay (disposal TEXT NOT NULL REFERENCES disposal (id), position INTEGER NOT NULL, stay TEXT NOT NULL, PRIMARY KEY (disposal, position)) WITHOUT ROWID;
INSERT INTO disposal_item SELECT disposal.id, x.key, x.value FROM disposal, json_each(disposal.items) x;
INSERT INTO disposal_stay SELECT disposal.id, x.key, x.value FROM disposal, json_each(disposal.stays) x;
ALTER TABLE disposal DROP COLUMN items;
ALTER TABLE disposal DROP COLUMN stays;
