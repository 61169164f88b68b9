-- +goose Up
-- What a phone handed over, by its browser or an app: on record also when its file is gone from the inbox, so that
-- nobody hands it over again.
CREATE TABLE handed (
  id      INTEGER PRIMARY KEY,
  way     TEXT NOT NULL,              -- by which it came: the name of its source
  path    TEXT NOT NULL,              -- below the source
  size    INTEGER NOT NULL,
  mtime   INTEGER NOT NULL,           -- nanoseconds since 1970
  sha256  TEXT NOT NULL,
  at      INTEGER NOT NULL,           -- when it was on disk
  held    TEXT NOT NULL DEFAULT '',   -- where it lies in the holding place
  held_at INTEGER NOT NULL DEFAULT 0, -- when it came there, 0 while it is in the inbox
  gone_at INTEGER NOT NULL DEFAULT 0, -- when it was removed
  hidden  INTEGER NOT NULL DEFAULT 0, -- the app that handed it over removed it once it was safe
  UNIQUE (way, path)
);
CREATE INDEX handed_content ON handed (sha256);
CREATE INDEX handed_size ON handed (size);
CREATE INDEX handed_here ON handed (id) WHERE held_at = 0;
CREATE INDEX handed_held ON handed (held_at) WHERE held_at > 0 AND gone_at = 0;
