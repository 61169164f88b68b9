package destination

import (
	"bytes"
	"errors"
	"fmt"
	"io"
)

// What a resume leaves to be sent again, and how much before that is compared.
const (
	// Doubt is how much at the end of a file that was being written is not
	// built on: writes under way may have left holes there.
	Doubt   = 2 << 20
	compare = 1 << 20
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
	n := min(kept, compare)
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
