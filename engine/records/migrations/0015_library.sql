-- +goose Up
-- Where a picture was taken, in millionths of a degree (WGS 84), where its header tells.
ALTER TABLE items ADD COLUMN placed INTEGER NOT NULL DEFAULT 0; -- 1: it is told
ALTER TABLE items ADD COLUMN lat INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN lon INTEGER NOT NULL DEFAULT 0;

-- What is brought back is known by where it lay.
CREATE INDEX items_gone ON items (source, dir, name) WHERE gone_at <> 0;

-- Captions, keywords and positions are read of all pictures, and anew where positions were not looked for.
UPDATE items SET marked = 1 WHERE marked = 2 AND gone_at = 0;
CREATE INDEX items_unasked ON items (id) WHERE marked = 0 AND gone_at = 0 AND part_of = 0 AND made_from = '' AND problem = '' AND kind IN ('photo', 'raw', 'graphic');
