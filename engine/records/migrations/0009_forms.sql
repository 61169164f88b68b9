-- +goose Up
-- A copy may go in another form than as shot. form is what the plan asked for when it was
-- prepared, '' for as shot; reduced tells whether something smaller came of that. bytes are
-- those that go: an item's own are its size.
ALTER TABLE copies ADD COLUMN form TEXT NOT NULL DEFAULT '';
ALTER TABLE copies ADD COLUMN reduced INTEGER NOT NULL DEFAULT 0;
CREATE INDEX copies_prepared ON copies (destination, rule, kind, form) WHERE state = 'waiting' AND form <> '';

DROP TRIGGER IF EXISTS copies_stand; -- a mirror has none
-- +goose StatementBegin
CREATE TRIGGER copies_stand AFTER UPDATE OF destination, rule, state ON copies
WHEN OLD.state <> NEW.state OR OLD.rule <> NEW.rule OR OLD.destination <> NEW.destination BEGIN
  UPDATE standings SET n = n - 1, bytes = bytes - (SELECT size FROM items WHERE id = NEW.item) WHERE id = (SELECT standing FROM items WHERE id = NEW.item);
  INSERT INTO standings (kind, copies, n, bytes)
    SELECT NEW.kind, json_group_array(json_array(destination, rule, state) ORDER BY destination), 1, (SELECT size FROM items WHERE id = NEW.item) FROM copies WHERE item = NEW.item
    ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
  UPDATE items SET standing = (SELECT id FROM standings WHERE kind = NEW.kind AND copies =
    (SELECT json_group_array(json_array(destination, rule, state) ORDER BY destination) FROM copies WHERE item = NEW.item)) WHERE id = NEW.item;
END;
-- +goose StatementEnd
