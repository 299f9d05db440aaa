-- +goose NO TRANSACTION
-- +goose Up
UPDATE plan SET detail = json_remove(detail, '$.sample') WHERE json_extract(detail, '$.sample') IS NOT NULL;
VACUUM;
