-- +goose Up
ALTER TABLE run ADD COLUMN log_bytes INTEGER;
