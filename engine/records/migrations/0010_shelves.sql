-- +goose Up
-- Beside an item's copy at a destination others of it may lie there, each on a shelf of
-- its own: small ones, previews, picks. The copy itself is on the shelf ''. (Keys cannot
-- be changed in place: the tables are made anew. Foreign keys are off meanwhile.)
CREATE TABLE copies_anew (
  id          INTEGER PRIMARY KEY,
  item        INTEGER NOT NULL REFERENCES items (id),
  destination TEXT NOT NULL,
  rule        TEXT NOT NULL,
  kind        TEXT NOT NULL,
  shelf       TEXT NOT NULL DEFAULT '',
  state       TEXT NOT NULL,
  bytes       INTEGER NOT NULL,
  taken_at    INTEGER NOT NULL,
  tries       INTEGER NOT NULL DEFAULT 0,
  not_before  INTEGER NOT NULL DEFAULT 0,
  ordered     TEXT NOT NULL DEFAULT '',   -- the keeper's send-now: '', 'unmetered', 'metered'
  temp        TEXT NOT NULL DEFAULT '',   -- temporary name at the destination, while there may be one
  remote      TEXT NOT NULL DEFAULT '',   -- path at the destination
  sha256      TEXT NOT NULL DEFAULT '',   -- of the bytes that were sent
  proof       TEXT NOT NULL DEFAULT '',
  proven_at   INTEGER NOT NULL DEFAULT 0,
  says        TEXT NOT NULL DEFAULT '',   -- why it is where it is
  todo        TEXT NOT NULL DEFAULT '',   -- what the keeper can do
  changed_at  INTEGER NOT NULL,
  sent        INTEGER NOT NULL DEFAULT 0, -- bytes handed to the storage, in all tries
  recorded    INTEGER NOT NULL DEFAULT 0, -- it stands in the open record at the destination
  reprove     INTEGER NOT NULL DEFAULT 0, -- the keeper wants its proof taken again
  landed      INTEGER NOT NULL DEFAULT 0, -- the copy itself put something in place as remote
  form        TEXT NOT NULL DEFAULT '',   -- that the plan asked for when it was prepared, '' for as shot
  reduced     INTEGER NOT NULL DEFAULT 0, -- something smaller came of that
  UNIQUE (item, destination, shelf)
);
INSERT INTO copies_anew (id, item, destination, rule, kind, state, bytes, taken_at, tries, not_before, ordered, temp, remote, sha256, proof, proven_at, says, todo, changed_at, sent, recorded, reprove, landed, form, reduced)
  SELECT id, item, destination, rule, kind, state, bytes, taken_at, tries, not_before, ordered, temp, remote, sha256, proof, proven_at, says, todo, changed_at, sent, recorded, reprove, landed, form, reduced FROM copies;
DROP TABLE copies;
ALTER TABLE copies_anew RENAME TO copies;
-- Every page and every pick is a walk along this index, one class at a time.
CREATE INDEX copies_class ON copies (state, destination, rule, kind, shelf, taken_at DESC, id DESC);
CREATE INDEX copies_waiting_size ON copies (destination, rule, kind, shelf, bytes) WHERE state = 'waiting';
CREATE INDEX copies_temp ON copies (destination) WHERE temp <> '';
CREATE INDEX copies_ordered ON copies (ordered) WHERE ordered <> '';
CREATE INDEX copies_retry ON copies (not_before) WHERE not_before > 0;
CREATE INDEX copies_unrecorded ON copies (destination, proven_at) WHERE state = 'safe' AND recorded = 0;
CREATE INDEX copies_reprove ON copies (destination, id) WHERE reprove = 1;
CREATE INDEX copies_remote ON copies (destination, remote) WHERE remote <> '';
CREATE INDEX copies_content ON copies (destination, sha256, state) WHERE sha256 <> '';
CREATE INDEX copies_proven ON copies (proven_at) WHERE proven_at > 0;
CREATE INDEX copies_prepared ON copies (destination, rule, kind, shelf, form) WHERE state = 'waiting' AND form <> '';
CREATE INDEX copies_small ON copies (destination) WHERE shelf = 'small' AND state = 'safe';

CREATE TABLE counters_anew (
  destination TEXT NOT NULL,
  rule        TEXT NOT NULL,
  kind        TEXT NOT NULL,
  shelf       TEXT NOT NULL DEFAULT '',
  state       TEXT NOT NULL,
  n           INTEGER NOT NULL,
  bytes       INTEGER NOT NULL,
  PRIMARY KEY (destination, rule, kind, shelf, state)
) WITHOUT ROWID;
INSERT INTO counters_anew (destination, rule, kind, state, n, bytes) SELECT destination, rule, kind, state, n, bytes FROM counters;
DROP TABLE counters;
ALTER TABLE counters_anew RENAME TO counters;

-- +goose StatementBegin
CREATE TRIGGER copies_made AFTER INSERT ON copies BEGIN
  INSERT INTO counters (destination, rule, kind, shelf, state, n, bytes) VALUES (NEW.destination, NEW.rule, NEW.kind, NEW.shelf, NEW.state, 1, NEW.bytes)
  ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER copies_moved AFTER UPDATE OF destination, rule, kind, state, bytes ON copies BEGIN
  UPDATE counters SET n = n - 1, bytes = bytes - OLD.bytes
  WHERE destination = OLD.destination AND rule = OLD.rule AND kind = OLD.kind AND shelf = OLD.shelf AND state = OLD.state;
  INSERT INTO counters (destination, rule, kind, shelf, state, n, bytes) VALUES (NEW.destination, NEW.rule, NEW.kind, NEW.shelf, NEW.state, 1, NEW.bytes)
  ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
END;
-- +goose StatementEnd
-- A standing has small copies, too: by them an item is safe in small.
-- +goose StatementBegin
CREATE TRIGGER copies_stand AFTER UPDATE OF destination, rule, state ON copies
WHEN NEW.shelf IN ('', 'small') AND (OLD.state <> NEW.state OR OLD.rule <> NEW.rule OR OLD.destination <> NEW.destination) BEGIN
  UPDATE standings SET n = n - 1, bytes = bytes - (SELECT size FROM items WHERE id = NEW.item) WHERE id = (SELECT standing FROM items WHERE id = NEW.item);
  INSERT INTO standings (kind, copies, n, bytes)
    SELECT NEW.kind, json_group_array(CASE shelf WHEN '' THEN json_array(destination, rule, state) ELSE json_array(destination, rule, state, shelf) END ORDER BY destination, shelf), 1, (SELECT size FROM items WHERE id = NEW.item)
    FROM copies WHERE item = NEW.item AND shelf IN ('', 'small')
    ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
  UPDATE items SET standing = (SELECT id FROM standings WHERE kind = NEW.kind AND copies =
    (SELECT json_group_array(CASE shelf WHEN '' THEN json_array(destination, rule, state) ELSE json_array(destination, rule, state, shelf) END ORDER BY destination, shelf)
     FROM copies WHERE item = NEW.item AND shelf IN ('', 'small'))) WHERE id = NEW.item;
END;
-- +goose StatementEnd

ALTER TABLE items ADD COLUMN camera TEXT NOT NULL DEFAULT '';       -- its model
-- What people gave it in other programs. marked: 0 nobody asks, 1 to be read, 2 read.
ALTER TABLE items ADD COLUMN marked INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN caption TEXT NOT NULL DEFAULT '';
ALTER TABLE items ADD COLUMN rating INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN keywords TEXT NOT NULL DEFAULT '[]';   -- JSON, in lower case
CREATE INDEX items_unmarked ON items (id) WHERE marked = 1;

-- What was applied is written otherwise now: it is applied anew.
DELETE FROM facts WHERE name = 'applied';
