package probe

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
)

// edge is how much of a file's beginning and end makes its look.
const edge = 16 << 10

// Look hashes the first and the last bytes of a file: cheap to have for
// every item, and enough to tell nearly all files of one size apart.
func Look(file io.ReaderAt, size int64) (string, error) {
	h := sha256.New()
	part := make([]byte, min(edge, size))
	for _, at := range []int64{0, max(edge, size-edge)} {
		n, err := file.ReadAt(part, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return "", fmt.Errorf("reading its edges: %w", err)
		}
		h.Write(part[:n])
	}
	return hex.EncodeToString(h.Sum(nil)[:12]), nil
}
