-- +goose Up
-- What a device sensed, a row for each change, kept for a while.
CREATE TABLE sensed (
  id       INTEGER PRIMARY KEY,
  at       INTEGER NOT NULL,
  network  TEXT NOT NULL,
  name     TEXT NOT NULL,     -- of the Wi-Fi
  metered  TEXT NOT NULL,
  roaming  TEXT NOT NULL,
  charging TEXT NOT NULL,
  in_use   TEXT NOT NULL
);
CREATE INDEX sensed_at ON sensed (at);

-- When the device's program ran. One that has no end was stopped from outside.
CREATE TABLE runs (
  id    INTEGER PRIMARY KEY,
  began INTEGER NOT NULL,
  seen  INTEGER NOT NULL,             -- it ran still
  ended INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX runs_seen ON runs (seen);

CREATE INDEX copies_proven ON copies (proven_at) WHERE proven_at > 0;
