// Package atomicfile replaces small files in one step: after a kill or a power cut there
// is the old content or the new, never a part.
package atomicfile

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
)

// Write replaces a file in one step, readable by its owner only.
func Write(file, content string) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".new-*") // mode 0600
	if err != nil {
		return err
	}
	_, err = f.WriteString(content)
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return SyncFolder(filepath.Dir(file))
}

// SyncFolder brings a folder's names to disk.
func SyncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	err = f.Sync()
	if errors.Is(err, syscall.EINVAL) { // some file systems cannot
		err = nil
	}
	return errors.Join(err, f.Close())
}
