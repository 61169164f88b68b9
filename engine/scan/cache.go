package scan

import (
	"io"
	"os"
	"path/filepath"

	"yardtide/core/media"
)

// cacheTag begins the file that says that its folder is a cache (the Cache Directory Tagging Specification 0.6).
const cacheTag = "Signature: 8a477f597d28d172789f06886806bc55"

// Tagged tells whether a folder says of itself that it is a cache.
func Tagged(dir string) bool { return Begins(filepath.Join(dir, media.CacheTag), cacheTag) }

// Begins tells whether a file begins with a text.
func Begins(file, with string) bool {
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, len(with))
	n, _ := io.ReadFull(f, head)
	return string(head[:n]) == with
}
