-- +goose Up
-- What the keeper said of an item: JSON, '' for nothing.
ALTER TABLE items ADD COLUMN keeper TEXT NOT NULL DEFAULT '';
