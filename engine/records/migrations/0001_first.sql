-- +goose Up
-- Times are milliseconds since 1970 in UTC; 0 is "not". mtime is in nanoseconds.

CREATE TABLE items (
  id           INTEGER PRIMARY KEY,
  source       TEXT NOT NULL,
  dir          TEXT NOT NULL,
  name         TEXT NOT NULL,
  size         INTEGER NOT NULL,
  mtime        INTEGER NOT NULL,
  inode        INTEGER NOT NULL,
  content_type TEXT NOT NULL,
  kind         TEXT NOT NULL,             -- '' for what is not media
  taken_at     INTEGER NOT NULL,
  taken_zone   INTEGER NOT NULL,          -- seconds east of UTC
  taken_from   TEXT NOT NULL,
  look         TEXT NOT NULL DEFAULT '',  -- of its first and last bytes: who differs here differs
  problem      TEXT NOT NULL DEFAULT '',  -- why it is not taken although it is media
  sha256       TEXT NOT NULL DEFAULT '',
  found_at     INTEGER NOT NULL,
  gone_at      INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX items_look ON items (size, look);
CREATE UNIQUE INDEX items_here ON items (source, dir, name) WHERE gone_at = 0;

CREATE TABLE copies (
  id          INTEGER PRIMARY KEY,
  item        INTEGER NOT NULL REFERENCES items (id),
  destination TEXT NOT NULL,
  rule        TEXT NOT NULL,
  kind        TEXT NOT NULL,
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
  UNIQUE (item, destination)
);
-- Every page and every pick is a walk along this index, one class at a time.
CREATE INDEX copies_class ON copies (state, destination, rule, kind, taken_at DESC, id DESC);
CREATE INDEX copies_size ON copies (destination, bytes);
CREATE INDEX copies_waiting_size ON copies (destination, rule, kind, bytes) WHERE state = 'waiting';
CREATE INDEX copies_temp ON copies (destination) WHERE temp <> '';
CREATE INDEX copies_ordered ON copies (ordered) WHERE ordered <> '';
CREATE INDEX copies_retry ON copies (not_before) WHERE not_before > 0;

CREATE TABLE events (
  copy  INTEGER NOT NULL REFERENCES copies (id),
  at    INTEGER NOT NULL,
  state TEXT NOT NULL,
  says  TEXT NOT NULL
);
CREATE INDEX events_copy ON events (copy);

-- Kept by the triggers below, so that no summary counts rows.
CREATE TABLE counters (
  destination TEXT NOT NULL,
  rule        TEXT NOT NULL,
  kind        TEXT NOT NULL,
  state       TEXT NOT NULL,
  n           INTEGER NOT NULL,
  bytes       INTEGER NOT NULL,
  PRIMARY KEY (destination, rule, kind, state)
) WITHOUT ROWID;

-- +goose StatementBegin
CREATE TRIGGER copies_made AFTER INSERT ON copies BEGIN
  INSERT INTO counters VALUES (NEW.destination, NEW.rule, NEW.kind, NEW.state, 1, NEW.bytes)
  ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER copies_moved AFTER UPDATE OF destination, rule, kind, state, bytes ON copies BEGIN
  UPDATE counters SET n = n - 1, bytes = bytes - OLD.bytes
  WHERE destination = OLD.destination AND rule = OLD.rule AND kind = OLD.kind AND state = OLD.state;
  INSERT INTO counters VALUES (NEW.destination, NEW.rule, NEW.kind, NEW.state, 1, NEW.bytes)
  ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
END;
-- +goose StatementEnd

CREATE TABLE spend (
  account  TEXT NOT NULL,
  period   INTEGER NOT NULL,  -- its first instant
  spent    INTEGER NOT NULL DEFAULT 0,
  reserved INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (account, period)
) WITHOUT ROWID;

CREATE TABLE reservations (
  copy    INTEGER PRIMARY KEY,
  account TEXT NOT NULL,
  period  INTEGER NOT NULL,
  bytes   INTEGER NOT NULL
);

CREATE TABLE facts (
  name  TEXT PRIMARY KEY,
  value TEXT NOT NULL
) WITHOUT ROWID;
