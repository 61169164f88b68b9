-- +goose Up
-- What was edited on its device has a newer version under its path. A rule says whether the older one is still asked for.
ALTER TABLE items ADD COLUMN older INTEGER NOT NULL DEFAULT 0; -- 1: a newer version took its path; 2: its rule asks for the newest alone
CREATE INDEX items_older ON items (source, rule) WHERE older <> 0;

DROP TRIGGER IF EXISTS copies_stand; -- a mirror has none
-- As it was, but for older versions of which no copy is asked for: nobody counts them.
-- +goose StatementBegin
CREATE TRIGGER copies_stand AFTER UPDATE OF destination, rule, state ON copies
WHEN NEW.shelf IN ('', 'small') AND (OLD.state <> NEW.state OR OLD.rule <> NEW.rule OR OLD.destination <> NEW.destination) BEGIN
  UPDATE standings SET n = n - 1, bytes = bytes - (SELECT w.all_bytes FROM items i JOIN items w ON w.id = CASE i.part_of WHEN 0 THEN i.id ELSE i.part_of END WHERE i.id = NEW.item)
    WHERE id = (SELECT w.standing FROM items i JOIN items w ON w.id = CASE i.part_of WHEN 0 THEN i.id ELSE i.part_of END WHERE i.id = NEW.item);
  INSERT INTO standings (kind, copies, n, bytes)
    SELECT w.kind, (SELECT json_group_array(CASE WHEN c.item <> w.id THEN json_array(c.destination, c.rule, c.state, c.shelf, c.kind) WHEN c.shelf = '' THEN json_array(c.destination, c.rule, c.state) ELSE json_array(c.destination, c.rule, c.state, c.shelf) END
        ORDER BY c.destination, c.shelf, c.item <> w.id, c.kind, c.state)
      FROM copies c WHERE c.item IN (SELECT w.id UNION ALL SELECT p.id FROM items p WHERE p.part_of = w.id AND p.part_of <> 0) AND c.shelf IN ('', 'small')), 1, w.all_bytes
    FROM items i JOIN items w ON w.id = CASE i.part_of WHEN 0 THEN i.id ELSE i.part_of END WHERE i.id = NEW.item AND w.older < 2
    ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
  UPDATE items AS w SET standing = (SELECT s.id FROM standings s WHERE s.kind = w.kind AND s.copies =
    (SELECT json_group_array(CASE WHEN c.item <> w.id THEN json_array(c.destination, c.rule, c.state, c.shelf, c.kind) WHEN c.shelf = '' THEN json_array(c.destination, c.rule, c.state) ELSE json_array(c.destination, c.rule, c.state, c.shelf) END
        ORDER BY c.destination, c.shelf, c.item <> w.id, c.kind, c.state)
      FROM copies c WHERE c.item IN (SELECT w.id UNION ALL SELECT p.id FROM items p WHERE p.part_of = w.id AND p.part_of <> 0) AND c.shelf IN ('', 'small')))
    WHERE w.id = (SELECT CASE part_of WHEN 0 THEN id ELSE part_of END FROM items WHERE id = NEW.item) AND w.older < 2;
END;
-- +goose StatementEnd
