-- +goose Up
-- What changed and is still to be told to the service: rows by their numbers, from low
-- to high, of a part of the records. A row that changes again goes to the end: what is
-- told is how it stands then. It is filled for devices elsewhere only (see Follow).
CREATE TABLE outbox (
  seq  INTEGER PRIMARY KEY AUTOINCREMENT,
  part TEXT NOT NULL,
  low  INTEGER NOT NULL,
  high INTEGER NOT NULL,
  UNIQUE (part, low, high)
);
