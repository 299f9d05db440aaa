-- +goose Up
-- What stands in stores, added up as it changes, so that nobody has to read all segments to know it.
CREATE TABLE segment_sum (store TEXT NOT NULL, rows_store TEXT NOT NULL, second TEXT NOT NULL, want_second TEXT NOT NULL, damaged INTEGER NOT NULL,
	segments INTEGER NOT NULL, deleted INTEGER NOT NULL, raw_bytes INTEGER NOT NULL, file_bytes INTEGER NOT NULL, PRIMARY KEY (store, rows_store, second, want_second, damaged)) WITHOUT ROWID;
INSERT INTO segment_sum SELECT store, rows_store, second, want_second, damage <> '', count(*), coalesce(sum(deleted), 0), coalesce(sum(raw_bytes), 0), coalesce(sum(file_bytes), 0)
	FROM segment WHERE state IN ('open', 'closed') GROUP BY 1, 2, 3, 4, 5;
-- +goose StatementBegin
CREATE TRIGGER segment_summed_new AFTER INSERT ON segment WHEN NEW.state IN ('open', 'closed') BEGIN
	INSERT INTO segment_sum VALUES (NEW.store, NEW.rows_store, NEW.second, NEW.want_second, NEW.damage <> '', 1, NEW.deleted, NEW.raw_bytes, NEW.file_bytes)
		ON CONFLICT DO UPDATE SET segments = segments + 1, deleted = deleted + excluded.deleted, raw_bytes = raw_bytes + excluded.raw_bytes, file_bytes = file_bytes + excluded.file_bytes;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER segment_summed_gone AFTER DELETE ON segment WHEN OLD.state IN ('open', 'closed') BEGIN
	UPDATE segment_sum SET segments = segments - 1, deleted = deleted - OLD.deleted, raw_bytes = raw_bytes - OLD.raw_bytes, file_bytes = file_bytes - OLD.file_bytes
		WHERE store = OLD.store AND rows_store = OLD.rows_store AND second = OLD.second AND want_second = OLD.want_second AND damaged = (OLD.damage <> '');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER segment_summed_was BEFORE UPDATE ON segment WHEN OLD.state IN ('open', 'closed') BEGIN
	UPDATE segment_sum SET segments = segments - 1, deleted = deleted - OLD.deleted, raw_bytes = raw_bytes - OLD.raw_bytes, file_bytes = file_bytes - OLD.file_bytes
		WHERE store = OLD.store AND rows_store = OLD.rows_store AND second = OLD.second AND want_second = OLD.want_second AND damaged = (OLD.damage <> '');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER segment_summed_is AFTER UPDATE ON segment WHEN NEW.state IN ('open', 'closed') BEGIN
	INSERT INTO segment_sum VALUES (NEW.store, NEW.rows_store, NEW.second, NEW.want_second, NEW.damage <> '', 1, NEW.deleted, NEW.raw_bytes, NEW.file_bytes)
		ON CONFLICT DO UPDATE SET segments = segments + 1, deleted = deleted + excluded.deleted, raw_bytes = raw_bytes + excluded.raw_bytes, file_bytes = file_bytes + excluded.file_bytes;
END;
-- +goose StatementEnd

-- What is asked for every other second.
CREATE INDEX run_state ON run (state, created_at);
CREATE INDEX segment_leaving ON segment (created_at) WHERE leaving <> '' AND state = 'closed';
CREATE INDEX segment_copies ON segment (store, want_second, second, created_at) WHERE state = 'closed' AND leaving = '' AND cold = 0;
CREATE INDEX segment_cool ON segment (cold_at) WHERE state = 'closed' AND rows_store = '' AND cold_store <> '' AND leaving = '' AND damage = '';
CREATE INDEX segment_verified ON segment (coalesce(nullif(rows_store, ''), store), coalesce(verified_at, '')) WHERE state = 'closed' AND cold = 0;
CREATE INDEX segment_cold ON segment (rows_store, verified_at) WHERE state = 'closed' AND cold = 1;
CREATE INDEX segment_damaged ON segment (created_at) WHERE damage <> '' AND state IN ('open', 'closed');
CREATE INDEX restore_untold ON restore (created_at) WHERE tell <> '' AND told_at IS NULL;
CREATE INDEX restore_state ON restore (state, created_at);
CREATE INDEX restore_lasts ON restore (expires_at) WHERE lasts <> '';

-- What is looked at.
CREATE INDEX segment_created ON segment (created_at, number);
CREATE INDEX segment_of_table ON segment (source, table_name, created_at, number);
CREATE INDEX segment_in_store ON segment (store, created_at);
CREATE INDEX segment_in_second ON segment (second, created_at) WHERE second <> '';
CREATE INDEX segment_in_rows ON segment (rows_store, created_at) WHERE rows_store <> '';
CREATE INDEX segment_checked ON segment (store, verified_at) WHERE state IN ('open', 'closed');
CREATE INDEX segment_link ON segment (source, table_name, sequence);
CREATE INDEX segment_closing_link ON segment (source, table_name, closing_sequence);
CREATE INDEX segment_disposal_link ON segment (source, table_name, disposal_sequence);
CREATE INDEX run_rule ON run (rule, created_at);
CREATE INDEX run_purged ON run (deleted) WHERE action = 'purge';
CREATE INDEX restore_created ON restore (created_at);
