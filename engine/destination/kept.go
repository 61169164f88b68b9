package destination

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
)

// What a resume leaves to be sent again, and how much before that is compared.
const (
	// Doubt is how much at the end of a file that was being written is not
	// built on: writes under way may have left holes there.
	Doubt = 2 << 20
	// Compared is how much is read back of what was sent before it is built on.
	Compared = 1 << 20
)

// KeptTail tells how much of a file that was being written can be built on,
// for storage that writes from the front: all but the last Doubt bytes, if the
// bytes before that are those of local, the whole file of size bytes. What it
// cannot see, the proof at the end does.
func KeptTail(there io.ReaderAt, length int64, local io.ReaderAt, size int64) (int64, error) {
	kept := min(length, size) - Doubt
	if kept <= 0 || length > size {
		return 0, nil
	}
	n := min(kept, Compared)
	has, wants := make([]byte, n), make([]byte, n)
	if _, err := there.ReadAt(has, kept-n); err != nil {
		return 0, fmt.Errorf("comparing what an earlier try sent: %w", err)
	}
	if _, err := local.ReadAt(wants, kept-n); err != nil && !errors.Is(err, io.EOF) {
		return 0, fmt.Errorf("comparing what an earlier try sent: %w", err)
	}
	if !bytes.Equal(has, wants) {
		return 0, nil
	}
	return kept, nil
}

// GoOn makes a file of what an earlier try left ready to be written from an
// offset on; 0 begins anew. lost tells that the file ends before it.
func GoOn(f interface {
	io.Seeker
	Stat() (fs.FileInfo, error)
	Truncate(size int64) error
}, from int64) (lost bool, err error) {
	info, err := f.Stat()
	if err != nil {
		return false, fmt.Errorf("looking at the temporary file: %w", err)
	}
	if info.Size() < from {
		return true, nil
	}
	if err := f.Truncate(from); err != nil {
		return false, fmt.Errorf("cutting the temporary file: %w", err)
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return false, fmt.Errorf("going on in the temporary file: %w", err)
	}
	return false, nil
}
