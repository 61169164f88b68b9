-- +goose Up
-- Where a picture was taken, in millionths of a degree (WGS 84), where its header tells.
ALTER TABLE items ADD COLUMN placed INTEGER NOT NULL DEFAULT 0; -- 1: it is told
ALTER TABLE items ADD COLUMN lat INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN lon INTEGER NOT NULL DEFAULT 0;

-- What is brought back is known by where it lay.
CREATE INDEX items_gone ON items (source, dir, name) WHERE gone_at <> 0;
