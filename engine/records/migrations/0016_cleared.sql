-- +goose Up
-- Files that went from their device to make room: first into a holding place. A row stays for ever: what went, when, and
-- on which proofs.
CREATE TABLE cleared (
  id         INTEGER PRIMARY KEY,
  item       INTEGER NOT NULL,            -- the file
  main       INTEGER NOT NULL,            -- the main file of its item
  source     TEXT NOT NULL,
  path       TEXT NOT NULL,               -- below the source
  size       INTEGER NOT NULL,
  mtime      INTEGER NOT NULL,
  sha256     TEXT NOT NULL,
  state      TEXT NOT NULL,               -- moving, held, removing, removed, back
  held       TEXT NOT NULL,               -- where it lies in the holding place, below the source
  held_at    INTEGER NOT NULL,
  until      INTEGER NOT NULL,            -- from when on it may be removed
  places     INTEGER NOT NULL,            -- at how many places it is to be proven
  proofs     TEXT NOT NULL,               -- JSON: of when it was held, and then of when it was removed
  small      TEXT NOT NULL DEFAULT '',    -- the smaller one that stays, below the source
  small_size INTEGER NOT NULL DEFAULT 0,
  small_sum  TEXT NOT NULL DEFAULT '',    -- its SHA-256
  removed_at INTEGER NOT NULL DEFAULT 0,
  back_at    INTEGER NOT NULL DEFAULT 0,  -- when it was taken back, or brought back
  says       TEXT NOT NULL DEFAULT ''
);
CREATE INDEX cleared_item ON cleared (item);
CREATE INDEX cleared_main ON cleared (main);
CREATE INDEX cleared_open ON cleared (state, until) WHERE state IN ('moving', 'held', 'removing');
CREATE INDEX cleared_small ON cleared (source, small) WHERE small <> '';
