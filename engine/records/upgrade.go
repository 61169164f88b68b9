package records

import (
	"context"
	"fmt"

	"database/sql"

	"github.com/pressly/goose/v3"
)

// storage is migration 2. It looks at what is there: some records of version 1
// were made with parts of it.
var storage = goose.NewGoMigration(2, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	for _, column := range []string{
		"sent",     // bytes handed to the storage, in all tries
		"recorded", // it stands in the open record at the destination
		"reprove",  // the keeper wants its proof taken again
	} {
		var there bool
		if err := tx.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM pragma_table_info('copies') WHERE name = ?)`,
			column).Scan(&there); err != nil {
			return fmt.Errorf("looking for %s: %w", column, err)
		}
		if there {
			continue
		}
		if _, err := tx.ExecContext(ctx, `ALTER TABLE copies ADD COLUMN `+column+` INTEGER NOT NULL DEFAULT 0`); err != nil {
			return fmt.Errorf("adding %s: %w", column, err)
		}
	}
	_, err := tx.ExecContext(ctx, `
CREATE INDEX IF NOT EXISTS copies_unrecorded ON copies (destination, proven_at) WHERE state = 'safe' AND recorded = 0;
CREATE INDEX IF NOT EXISTS copies_reprove ON copies (destination, id) WHERE reprove = 1;
CREATE INDEX IF NOT EXISTS copies_remote ON copies (destination, remote) WHERE remote <> '';

-- Files that were at a destination before Yard Tide came, as the keeper had
-- them listed. One is hashed when something of its size is to be sent.
CREATE TABLE IF NOT EXISTS found (
  destination TEXT NOT NULL,
  path        TEXT NOT NULL,
  size        INTEGER NOT NULL,
  sha256      TEXT NOT NULL DEFAULT '',
  hashed_at   INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (destination, path)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS found_size ON found (destination, size);

-- What has the same content is found by its hash, however many copies are of
-- one size, or of one content.
DROP INDEX IF EXISTS copies_size;
CREATE INDEX IF NOT EXISTS copies_content ON copies (destination, sha256, state) WHERE sha256 <> ''`)
	if err != nil {
		return fmt.Errorf("adding what storage and sending need: %w", err)
	}
	return nil
}}, nil)
