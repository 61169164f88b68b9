-- +goose Up
-- In a closed library smaller versions lie beside originals.
ALTER TABLE items ADD COLUMN sorted INTEGER NOT NULL DEFAULT 0;  -- it was told whether it is an original
ALTER TABLE items ADD COLUMN made_from TEXT NOT NULL DEFAULT ''; -- whose smaller version it is, or the tag of its cache

-- What they are told apart by, beside what is known of every item.
CREATE TABLE frames (
  item INTEGER PRIMARY KEY,
  w    INTEGER NOT NULL,        -- pixels, 0 where they cannot be told
  h    INTEGER NOT NULL,
  fine TEXT NOT NULL DEFAULT '' -- how it looks; - where that cannot be told, '' while nobody asked
);
