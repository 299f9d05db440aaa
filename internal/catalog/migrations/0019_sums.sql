-- +goose Up
-- How much a disposal is of, kept as its segments change.
ALTER TABLE disposal ADD COLUMN segments INTEGER NOT NULL DEFAULT 0;
ALTER TABLE disposal ADD COLUMN row_count INTEGER NOT NULL DEFAULT 0;
ALTER TABLE disposal ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE disposal ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE disposal ADD COLUMN staying INTEGER NOT NULL DEFAULT 0;
UPDATE disposal SET segments = (SELECT count(*) FROM disposal_item x WHERE x.disposal = disposal.id),
	row_count = (SELECT coalesce(sum(x.item ->> '$.rows' - coalesce(x.item ->> '$.kept', 0)), 0) FROM disposal_item x WHERE x.disposal = disposal.id),
	bytes = (SELECT coalesce(sum(x.item ->> '$.bytes'), 0) FROM disposal_item x WHERE x.disposal = disposal.id),
	gone = (SELECT count(x.item ->> '$.destroyed') FROM disposal_item x WHERE x.disposal = disposal.id),
	staying = (SELECT count(*) FROM disposal_stay x WHERE x.disposal = disposal.id);
-- +goose StatementBegin
CREATE TRIGGER disposal_item_made AFTER INSERT ON disposal_item BEGIN
	UPDATE disposal SET segments = segments + 1, row_count = row_count + (NEW.item ->> '$.rows') - coalesce(NEW.item ->> '$.kept', 0), bytes = bytes + (NEW.item ->> '$.bytes'),
		gone = gone + (NEW.item ->> '$.destroyed' IS NOT NULL) WHERE id = NEW.disposal;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER disposal_item_changed AFTER UPDATE ON disposal_item BEGIN
	UPDATE disposal SET row_count = row_count + (NEW.item ->> '$.rows') - coalesce(NEW.item ->> '$.kept', 0) - (OLD.item ->> '$.rows') + coalesce(OLD.item ->> '$.kept', 0),
		bytes = bytes + (NEW.item ->> '$.bytes') - (OLD.item ->> '$.bytes'), gone = gone + (NEW.item ->> '$.destroyed' IS NOT NULL) - (OLD.item ->> '$.destroyed' IS NOT NULL) WHERE id = NEW.disposal;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER disposal_stay_made AFTER INSERT ON disposal_stay BEGIN
	UPDATE disposal SET staying = staying + 1 WHERE id = NEW.disposal;
END;
-- +goose StatementEnd
