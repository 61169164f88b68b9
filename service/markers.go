package service

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"yardtide/engine/destination/folder"
)

// markers remembers which folder is which: each destination of that kind has a
// file in it that says so, made when the folder is first used, and the same
// line is kept here, in dir.
type markers struct{ dir string }

// of tells what the marker of a destination's folder must hold.
func (m markers) of(name, root string) func() (string, error) {
	var mu sync.Mutex
	known := ""
	return func() (string, error) {
		mu.Lock()
		defer mu.Unlock()
		if known != "" {
			return known, nil
		}
		var err error
		known, err = m.take(name, root)
		return known, err
	}
}

func (m markers) take(name, root string) (string, error) {
	file := filepath.Join(m.dir, name)
	kept, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("reading the marker of %s: %w", name, err)
	}
	if id, at, _ := strings.Cut(string(kept), "\n"); err == nil && strings.TrimSpace(at) == root {
		return id, nil
	}
	there := filepath.Join(root, folder.MarkerName)
	text, err := os.ReadFile(there)
	id := strings.TrimSpace(string(text))
	if errors.Is(err, fs.ErrNotExist) {
		id = random()[:16]
		err = os.WriteFile(there, []byte(id+"\n"), 0o644)
	}
	if err != nil || id == "" {
		return "", nil // a folder that cannot be written says so when something is sent
	}
	if err := os.MkdirAll(m.dir, 0o700); err != nil {
		return "", fmt.Errorf("keeping the marker of %s: %w", name, err)
	}
	if err := writeFile(file, id+"\n"+root+"\n"); err != nil {
		return "", fmt.Errorf("keeping the marker of %s: %w", name, err)
	}
	return id, nil
}
