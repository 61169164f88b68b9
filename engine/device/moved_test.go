package device_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

// Renames, moves, swaps, edits and exchanges in any order: nothing is sent twice, every copy that is called safe is of
// the content that its file has, and the storage loses nothing that it had.
func TestFilesThatMoveAreKnownAgain(t *testing.T) {
	t.Parallel()
	for seed := range histories() {
		movedAbout(t, setup(t, home), uint64(seed), true, nil)
	}
}

// histories is how many histories are gone through: a few, or as many as are asked for.
func histories() int {
	if n, err := strconv.Atoi(os.Getenv("YARDTIDE_ROUNDS")); err == nil {
		return n
	}
	return 1
}

// movedAbout takes the files of a device through a history. Between is what happens now and then between two rounds, to
// a file that it may edit while nobody looks; nil is nothing. An edit puts the file's time back, where that can be seen.
func movedAbout(t *testing.T, y *yard, seed uint64, timeBack bool, between func(edit func())) {
	t.Helper()
	r := rand.New(rand.NewPCG(22, seed))
	root := filepath.Join(y.dir, "phone/DCIM")
	picture := func(n int) []byte {
		content, err := standin.JPEG(n, 120, time.Date(2026, 3, 1, 10, n%60, 0, 0, time.UTC))
		require.NoError(t, err)
		return append(content, fmt.Sprint(n)...)
	}
	made := 0
	ever := map[string]bool{} // contents that were there
	put := func(name string) {
		made++
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		content := picture(made)
		ever[hash(content)] = true
		require.NoError(t, os.WriteFile(file+".new", content, 0o644))
		require.NoError(t, os.Rename(file+".new", file))
		past := time.Now().Add(-time.Duration(r.IntN(1000)) * time.Hour)
		require.NoError(t, os.Chtimes(file, past, past))
	}
	name := func() string { return fmt.Sprintf("%d/p%d.jpg", r.IntN(3), r.IntN(9)) }
	for range 8 {
		put(name())
	}
	all := func() (files []string) {
		require.NoError(t, filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() && !strings.HasPrefix(e.Name(), ".") { // what FUSE keeps of a file that is read still
				files = append(files, path)
			}
			if errors.Is(err, os.ErrNotExist) { // one of those
				return nil
			}
			return err
		}))
		return files
	}
	edit := func(one string) { // in place
		info, err := os.Stat(one)
		require.NoError(t, err)
		content, err := os.ReadFile(one)
		require.NoError(t, err)
		made++
		content[len(content)/2] ^= byte(1 + made%250)
		ever[hash(content)] = true
		require.NoError(t, os.WriteFile(one, content, 0o644))
		at := info.ModTime()
		if !timeBack {
			at = at.Add(2 * time.Second)
		}
		require.NoError(t, os.Chtimes(one, at, at))
	}
	for round := range 24 {
		files := all()
		one, other := files[r.IntN(len(files))], files[r.IntN(len(files))]
		to := filepath.Join(root, name())
		switch r.IntN(6) {
		case 0, 1: // moved, maybe over another
			require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
			require.NoError(t, os.Rename(one, to))
		case 2: // swapped
			require.NoError(t, os.Rename(one, one+".tmp"))
			if one != other {
				require.NoError(t, os.Rename(other, one))
				require.NoError(t, os.Rename(one+".tmp", other))
			} else {
				require.NoError(t, os.Rename(one+".tmp", one))
			}
		case 3:
			edit(one)
		case 4: // removed, and another made at once: its number may be the same
			require.NoError(t, os.Remove(one))
			rel, err := filepath.Rel(root, one)
			require.NoError(t, err)
			put(rel)
		case 5:
			put(name())
		}
		if r.IntN(2) == 0 {
			continue // several at once
		}
		if between != nil && r.IntN(2) == 0 {
			between(func() { edit(all()[0]) })
		}
		want := int64(len(all()))
		y.until(fmt.Sprintf("round %d is safe", round), func(d wire.Device) bool {
			return d.States[queue.Safe].N >= want && d.States[queue.Waiting].N+d.States[queue.Sending].N+d.States[queue.Preparing].N+d.States[queue.Proving].N == 0
		})
		stored := y.stored()
		for is := range stored {
			assert.True(t, ever[is], "round %d: nothing else lies there", round)
		}
		for _, file := range all() { // a last change may not be found yet
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			require.Eventually(t, func() bool { return y.stored()[hash(content)] != "" }, 90*time.Second, 50*time.Millisecond,
				"round %d: %s", round, file)
		}
	}
	require.Eventually(t, func() bool { // the last changes may be on their way still
		there := 0
		for name := range whatIsIn(t, y.dir+"/locker") {
			if strings.HasSuffix(name, ".jpg") && !strings.HasPrefix(name, ".") {
				there++
			}
		}
		return len(y.stored()) == there
	}, time.Minute, 50*time.Millisecond, "nothing is there twice")
}

// A file that is only moved keeps its copy, and is not read for it.
func TestAMovedFileIsNotReadAgain(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.picture("a/one.jpg", 1)
	y.until("safe", counts(queue.Safe, 1))
	was := y.copy("a/one.jpg").Remote
	root := y.dir + "/phone/DCIM/"
	require.NoError(t, os.MkdirAll(root+"b", 0o755))
	require.NoError(t, os.Rename(root+"a/one.jpg", root+"b/two.jpg"))
	require.Eventually(t, func() bool {
		it, there, err := y.records.Catalogue.Here(t.Context(), "DCIM", "b", "two.jpg")
		return err == nil && there && it.SHA256 != ""
	}, time.Minute, 10*time.Millisecond, "its content is known as it is found")
	y.until("safe under its new name", func(wire.Device) bool {
		for _, c := range copiesIn(t, y.records, queue.Safe) {
			if c.Name == "two.jpg" {
				assert.Equal(t, was, c.Remote, "the copy keeps its name at the place")
				return true
			}
		}
		return false
	})
	assert.Len(t, y.stored(), 1)
}
