package scan

import (
	"fmt"
	"io"
	"os"
	"syscall"
)

// NotRegular tells that what was to be read is no regular file: a pipe, a
// device, a folder.
type NotRegular struct{ Path string }

func (e NotRegular) Error() string { return e.Path + " is not a regular file" }

// Open opens a regular file for reading. What is there is looked at by the open
// handle, and nothing is waited for: a pipe in its place is a NotRegular.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = NotRegular{path}
	}
	if err != nil {
		_ = f.Close() // nothing was read of it
		return nil, fmt.Errorf("opening it: %w", err)
	}
	return f, nil
}

// ReadSmall reads a regular file of at most so many bytes.
func ReadSmall(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil {
		return nil, fmt.Errorf("reading it: %w", err)
	}
	if int64(len(text)) > most {
		return nil, fmt.Errorf("%s is longer than %d bytes", path, most)
	}
	return text, nil
}
