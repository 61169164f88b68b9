-- +goose Up
-- The time of a file's last change of any sort, in nanoseconds; it can't be put
-- back. 0 where the system has none, and for what was found before it was kept.
ALTER TABLE items ADD COLUMN ctime INTEGER NOT NULL DEFAULT 0;

-- Whether the copy itself put something in place as remote: until then that
-- name is only what it meant to take, and may be somebody else's.
ALTER TABLE copies ADD COLUMN landed INTEGER NOT NULL DEFAULT 0;
UPDATE copies SET landed = 1 WHERE state IN ('proving', 'safe');

-- Metered bytes, by the quarter of an hour (every zone's day begins at one) in
-- which they were set aside. Whatever an allowance asks is a sum of it.
CREATE TABLE ledger (
  network TEXT NOT NULL,
  at      INTEGER NOT NULL,  -- the quarter's first instant
  roaming INTEGER NOT NULL,
  rule    TEXT NOT NULL,
  bytes   INTEGER NOT NULL,
  PRIMARY KEY (network, at, roaming, rule)
) WITHOUT ROWID;
INSERT INTO ledger SELECT substr(account, instr(account, '/') + 1), period - period % 900000, 0, substr(account, 1, instr(account, '/') - 1), sum(spent + reserved)
  FROM spend GROUP BY 1, 2, 3, 4;
DROP TABLE spend;
DROP TABLE reservations;
CREATE TABLE reservations (
  copy    INTEGER PRIMARY KEY,
  network TEXT NOT NULL,
  at      INTEGER NOT NULL,
  roaming INTEGER NOT NULL,
  rule    TEXT NOT NULL,
  bytes   INTEGER NOT NULL
);

-- What stayed at a place that its destination's name no longer stands for.
CREATE TABLE left_behind (
  place       TEXT NOT NULL,    -- its identity
  destination TEXT NOT NULL,    -- the name that stood for it
  path        TEXT NOT NULL,
  size        INTEGER NOT NULL,
  sha256      TEXT NOT NULL,
  left_at     INTEGER NOT NULL,
  PRIMARY KEY (place, path)
) WITHOUT ROWID;
