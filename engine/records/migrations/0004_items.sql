-- +goose Up
-- Until now copies were counted; people count pictures. A standing is how items
-- stand: the states of their copies together. Items are counted by it, so that no
-- summary counts rows, and every page of items is a walk along one index.
CREATE TABLE standings (
  id     INTEGER PRIMARY KEY,
  kind   TEXT NOT NULL,
  copies TEXT NOT NULL,               -- JSON: [destination, rule, state] of each, by destination
  n      INTEGER NOT NULL DEFAULT 0,  -- items that stand so
  bytes  INTEGER NOT NULL DEFAULT 0,  -- theirs, each counted once
  UNIQUE (kind, copies)
);

ALTER TABLE items ADD COLUMN standing INTEGER NOT NULL DEFAULT 0; -- 0 while it has no copies

CREATE TEMP TABLE stands AS
  SELECT item, json_group_array(json_array(destination, rule, state) ORDER BY destination) copies FROM copies GROUP BY item;
CREATE INDEX temp.stands_item ON stands (item);
INSERT INTO standings (kind, copies, n, bytes)
  SELECT i.kind, s.copies, count(*), sum(i.size) FROM stands s JOIN items i ON i.id = s.item GROUP BY 1, 2;
UPDATE items SET standing = coalesce((SELECT g.id FROM stands s JOIN standings g ON g.kind = items.kind AND g.copies = s.copies WHERE s.item = items.id), 0);
DROP TABLE stands;

CREATE INDEX items_standing ON items (standing, taken_at DESC, id DESC);
CREATE INDEX items_name ON items (name);

-- Finds items by a part of their name: for each three letters in a row, who has them.
CREATE VIRTUAL TABLE names USING fts5 (name, content = '', detail = none, tokenize = 'trigram');
INSERT INTO names (rowid, name) SELECT id, name FROM items WHERE kind <> '';

-- Copies are made with their items' standings (admit and want in items.go); what
-- changes them later is followed here, so that nothing can forget it.
-- +goose StatementBegin
CREATE TRIGGER copies_stand AFTER UPDATE OF destination, rule, state ON copies
WHEN OLD.state <> NEW.state OR OLD.rule <> NEW.rule OR OLD.destination <> NEW.destination BEGIN
  UPDATE standings SET n = n - 1, bytes = bytes - NEW.bytes WHERE id = (SELECT standing FROM items WHERE id = NEW.item);
  INSERT INTO standings (kind, copies, n, bytes)
    SELECT NEW.kind, json_group_array(json_array(destination, rule, state) ORDER BY destination), 1, NEW.bytes FROM copies WHERE item = NEW.item
    ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
  UPDATE items SET standing = (SELECT id FROM standings WHERE kind = NEW.kind AND copies =
    (SELECT json_group_array(json_array(destination, rule, state) ORDER BY destination) FROM copies WHERE item = NEW.item)) WHERE id = NEW.item;
END;
-- +goose StatementEnd
