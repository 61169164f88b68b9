-- +goose Up
-- Every file is of a kind now, by its content: of what was one kind, photo, raw files
-- and graphics are kinds of their own. Copies follow the rule that their item does.
ALTER TABLE items ADD COLUMN rule TEXT NOT NULL DEFAULT '';       -- that takes it, '' for what is left out
ALTER TABLE items ADD COLUMN seconds INTEGER NOT NULL DEFAULT 0;  -- how long a clip lasts

UPDATE items SET rule = coalesce((SELECT rule FROM copies WHERE item = items.id ORDER BY id LIMIT 1), '');

CREATE TEMP TABLE named AS SELECT id FROM items WHERE kind = '';
UPDATE items SET kind = CASE
    WHEN content_type IN ('image/x-canon-cr3', 'image/x-fuji-raf', 'image/x-olympus-orf', 'image/x-panasonic-rw2') THEN 'raw'
    WHEN content_type IN ('image/png', 'image/apng', 'image/vnd.mozilla.apng', 'image/gif', 'image/bmp', 'image/x-bmp', 'image/x-ms-bmp', 'image/webp', 'image/x-xcf', 'image/vnd.adobe.photoshop', 'image/x-psd') AND taken_from = 'file' THEN 'graphic'
    WHEN kind <> '' THEN kind
    WHEN content_type LIKE 'audio/%' THEN 'audio'
    WHEN content_type LIKE 'text/%' OR content_type = 'image/svg+xml' OR content_type IN ('application/pdf', 'application/rtf', 'application/msword', 'application/json', 'application/xml', 'application/epub+zip')
      OR content_type LIKE 'application/vnd.oasis.opendocument.%' OR content_type LIKE 'application/vnd.openxmlformats-officedocument.%' OR content_type LIKE 'application/vnd.ms-%' THEN 'document'
    ELSE 'other' END;
INSERT INTO names (rowid, name) SELECT id, name FROM items WHERE id IN (SELECT id FROM named);
DROP TABLE named;

UPDATE copies SET kind = (SELECT kind FROM items WHERE id = copies.item) WHERE kind <> (SELECT kind FROM items WHERE id = copies.item);

DELETE FROM standings;
CREATE TEMP TABLE stands AS
  SELECT item, json_group_array(json_array(destination, rule, state) ORDER BY destination) copies FROM copies GROUP BY item;
CREATE INDEX temp.stands_item ON stands (item);
INSERT INTO standings (kind, copies, n, bytes)
  SELECT i.kind, s.copies, count(*), sum(i.size) FROM stands s JOIN items i ON i.id = s.item GROUP BY 1, 2;
UPDATE items SET standing = coalesce((SELECT g.id FROM stands s JOIN standings g ON g.kind = items.kind AND g.copies = s.copies WHERE s.item = items.id), 0);
DROP TABLE stands;

-- What was applied is written otherwise now: it is applied anew.
DELETE FROM facts WHERE name = 'applied';
