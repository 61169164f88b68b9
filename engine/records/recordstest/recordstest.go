// Package recordstest opens records for tests: from a file that was brought up to date once, as the steps of that
// take longer than most tests.
package recordstest

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"yardtide/engine/records"
)

// made is the file that was brought up to date.
var made = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "records")
	if err != nil {
		return nil, err
	}
	file := filepath.Join(dir, "records.db")
	r, err := records.Open(context.Background(), file)
	if err == nil {
		err = r.Catalogue.ForgetEpoch(context.Background()) // each copy gets a word of its own
	}
	if r != nil {
		err = errors.Join(err, r.Close())
	}
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	content, err := os.ReadFile(file)
	return content, errors.Join(err, os.RemoveAll(dir))
})

// Open opens the records in a file, which is begun when there is none.
func Open(ctx context.Context, file string) (*records.Records, error) {
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		content, err := made()
		if err == nil {
			err = os.MkdirAll(filepath.Dir(file), 0o700)
		}
		if err == nil {
			err = os.WriteFile(file, content, 0o600)
		}
		if err != nil {
			return nil, fmt.Errorf("beginning records for a test: %w", err)
		}
	}
	return records.Open(ctx, file)
}
