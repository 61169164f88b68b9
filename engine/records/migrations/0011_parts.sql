-- +goose Up
-- An item may have several files: a raw beside its picture, the clip of a still, sidecars.
-- Each is a row; the others are parts of the main one, and only that is counted and listed.
ALTER TABLE items ADD COLUMN part_of INTEGER NOT NULL DEFAULT 0;   -- the main one's number, 0 for a main one
ALTER TABLE items ADD COLUMN own_rule TEXT NOT NULL DEFAULT '';    -- that would take it by itself
ALTER TABLE items ADD COLUMN all_bytes INTEGER NOT NULL DEFAULT 0; -- with those of its parts
ALTER TABLE items ADD COLUMN pair TEXT NOT NULL DEFAULT '';        -- what its camera wrote into a still and its clip alike
UPDATE items SET own_rule = rule, all_bytes = size;
CREATE INDEX items_parts ON items (part_of) WHERE part_of <> 0;

DROP TRIGGER IF EXISTS copies_stand; -- a mirror has none
-- +goose StatementBegin
CREATE TRIGGER copies_stand AFTER UPDATE OF destination, rule, state ON copies
WHEN NEW.shelf IN ('', 'small') AND (OLD.state <> NEW.state OR OLD.rule <> NEW.rule OR OLD.destination <> NEW.destination) BEGIN
  UPDATE standings SET n = n - 1, bytes = bytes - (SELECT w.all_bytes FROM items i JOIN items w ON w.id = CASE i.part_of WHEN 0 THEN i.id ELSE i.part_of END WHERE i.id = NEW.item)
    WHERE id = (SELECT w.standing FROM items i JOIN items w ON w.id = CASE i.part_of WHEN 0 THEN i.id ELSE i.part_of END WHERE i.id = NEW.item);
  INSERT INTO standings (kind, copies, n, bytes)
    SELECT w.kind, (SELECT json_group_array(CASE WHEN c.item <> w.id THEN json_array(c.destination, c.rule, c.state, c.shelf, c.kind) WHEN c.shelf = '' THEN json_array(c.destination, c.rule, c.state) ELSE json_array(c.destination, c.rule, c.state, c.shelf) END
        ORDER BY c.destination, c.shelf, c.item <> w.id, c.kind, c.state)
      FROM copies c WHERE c.item IN (SELECT w.id UNION ALL SELECT p.id FROM items p WHERE p.part_of = w.id AND p.part_of <> 0) AND c.shelf IN ('', 'small')), 1, w.all_bytes
    FROM items i JOIN items w ON w.id = CASE i.part_of WHEN 0 THEN i.id ELSE i.part_of END WHERE i.id = NEW.item
    ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
  UPDATE items AS w SET standing = (SELECT s.id FROM standings s WHERE s.kind = w.kind AND s.copies =
    (SELECT json_group_array(CASE WHEN c.item <> w.id THEN json_array(c.destination, c.rule, c.state, c.shelf, c.kind) WHEN c.shelf = '' THEN json_array(c.destination, c.rule, c.state) ELSE json_array(c.destination, c.rule, c.state, c.shelf) END
        ORDER BY c.destination, c.shelf, c.item <> w.id, c.kind, c.state)
      FROM copies c WHERE c.item IN (SELECT w.id UNION ALL SELECT p.id FROM items p WHERE p.part_of = w.id AND p.part_of <> 0) AND c.shelf IN ('', 'small')))
    WHERE w.id = (SELECT CASE part_of WHEN 0 THEN id ELSE part_of END FROM items WHERE id = NEW.item);
END;
-- +goose StatementEnd

-- What was applied is written otherwise now: it is applied anew.
DELETE FROM facts WHERE name = 'applied';
