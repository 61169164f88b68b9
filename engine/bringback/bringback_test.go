package bringback_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/bringback"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
)

// places are folders that stand for storages; each may fail while it is read.
type places struct {
	dir  string
	fail func(name string, r io.Reader) io.Reader
}

func (p places) get(name string) (destination.Driver, error) {
	if name == "none" {
		return nil, errors.New("the plan has no destination none")
	}
	d := folder.New(filepath.Join(p.dir, name))
	return failing{d, d, func(r io.Reader) io.Reader {
		if p.fail == nil {
			return r
		}
		return p.fail(name, r)
	}}, nil
}

type failing struct {
	destination.Driver
	ranger destination.Ranger
	reads  func(io.Reader) io.Reader
}

type reader struct {
	io.Reader
	io.Closer
}

func (f failing) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	return f.OpenFrom(ctx, path, 0)
}

func (f failing) OpenFrom(ctx context.Context, path string, from int64) (io.ReadCloser, error) {
	r, err := f.ranger.OpenFrom(ctx, path, from)
	if err != nil {
		return nil, err
	}
	return reader{f.reads(r), r}, nil
}

func sum(content []byte) string { return fmt.Sprintf("%x", sha256.Sum256(content)) }

// lies puts content at a place, and tells of it as a copy.
func (p places) lies(t *testing.T, name, at string, content []byte) bringback.At {
	t.Helper()
	file := filepath.Join(p.dir, name, filepath.FromSlash(at))
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, content, 0o644))
	return bringback.At{Destination: name, Path: at, SHA256: sum(content), Bytes: int64(len(content))}
}

func target(t *testing.T) (*os.Root, string) {
	t.Helper()
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, root.Close()) })
	return root, dir
}

// all are the files below a folder, by their paths, with their content.
func all(t *testing.T, dir string) map[string]string {
	t.Helper()
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(p)
		rel, _ := filepath.Rel(dir, p)
		found[filepath.ToSlash(rel)] = string(content)
		return err
	}))
	return found
}

var taken = time.Date(2019, 5, 3, 10, 20, 30, 0, time.UTC)

func TestWhatIsBroughtBackIsWhatWasThere(t *testing.T) {
	t.Parallel()
	p := places{dir: t.TempDir()}
	root, dir := target(t)
	b := bringback.Bringer{Driver: p.get, Root: root}
	c := p.lies(t, "shed", "2019/05/a.jpg", []byte("boat"))
	list, err := b.Bring(t.Context(), []bringback.Wanted{{Path: "DCIM/a.jpg", Modified: taken, Copies: []bringback.At{c}}})
	require.NoError(t, err)
	assert.Equal(t, []bringback.Brought{{Path: "DCIM/a.jpg", From: c}}, list)
	info, err := os.Stat(dir + "/DCIM/a.jpg")
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(taken), info.ModTime())
	// Once more: it is there.
	list, err = b.Bring(t.Context(), []bringback.Wanted{{Path: "DCIM/a.jpg", Modified: taken, Copies: []bringback.At{c}}})
	require.NoError(t, err)
	assert.True(t, list[0].Had)
	b.Tidy()
	assert.Equal(t, map[string]string{"DCIM/a.jpg": "boat"}, all(t, dir))
	assert.NoDirExists(t, dir+"/.yardtide-back")
}

// Nothing that is there is written over, and what belongs together keeps one name.
func TestNothingIsWrittenOver(t *testing.T) {
	t.Parallel()
	p := places{dir: t.TempDir()}
	root, dir := target(t)
	b := bringback.Bringer{Driver: p.get, Root: root}
	require.NoError(t, os.WriteFile(dir+"/a.xmp", []byte("another's"), 0o644))
	require.NoError(t, os.Mkdir(dir+"/a (2).jpg", 0o755))
	require.NoError(t, os.Symlink("/etc/hosts", dir+"/a (3).xmp"))
	require.NoError(t, os.WriteFile(dir+"/folder", []byte("a file"), 0o644))
	pair := []bringback.Wanted{{Path: "a.jpg", Copies: []bringback.At{p.lies(t, "shed", "1.jpg", []byte("boat"))}},
		{Path: "a.xmp", Copies: []bringback.At{p.lies(t, "shed", "1.xmp", []byte("<xmp>"))}}}
	list, err := b.Bring(t.Context(), pair)
	require.NoError(t, err)
	assert.Equal(t, []string{"a (4).jpg", "a (4).xmp"}, []string{list[0].Path, list[1].Path})
	_, err = b.Bring(t.Context(), []bringback.Wanted{{Path: "folder/b.jpg", Copies: pair[0].Copies}})
	require.Error(t, err)
	got := all(t, dir)
	delete(got, "a (3).xmp")
	assert.Equal(t, map[string]string{"a.xmp": "another's", "folder": "a file", "a (4).jpg": "boat", "a (4).xmp": "<xmp>"}, got)
}

// A place that is gone, fails, or holds something else is told, and another serves; a smaller copy only where nothing else
// does, and under a name that says so.
func TestTheNextPlaceServes(t *testing.T) {
	t.Parallel()
	p := places{dir: t.TempDir()}
	root, dir := target(t)
	b := bringback.Bringer{Driver: p.get, Root: root}
	good := p.lies(t, "shed", "a.jpg", []byte("boat"))
	small := p.lies(t, "loft", "a.jpg", []byte("bo"))
	small.Reduced = true
	rotten := p.lies(t, "attic", "a.jpg", []byte("boat"))
	require.NoError(t, os.WriteFile(p.dir+"/attic/a.jpg", []byte("boaT"), 0o644))
	longer := p.lies(t, "attic", "long.jpg", []byte("boat"))
	require.NoError(t, os.WriteFile(p.dir+"/attic/long.jpg", []byte("boatboat"), 0o644))
	missing := bringback.At{Destination: "shed", Path: "none.jpg", SHA256: good.SHA256, Bytes: 4}
	unknown := bringback.At{Destination: "none", Path: "a.jpg", SHA256: good.SHA256, Bytes: 4}
	unproven := bringback.At{Destination: "shed", Path: "a.jpg", Bytes: 4}
	bad := []bringback.At{rotten, longer, missing, unknown, unproven}
	list, err := b.Bring(t.Context(), []bringback.Wanted{{Path: "a.jpg", Copies: append(bad[:len(bad):len(bad)], good, small)}})
	require.NoError(t, err)
	assert.Equal(t, good, list[0].From)
	assert.Len(t, list[0].Failed, len(bad))
	list, err = b.Bring(t.Context(), []bringback.Wanted{{Path: "b.heic", Copies: append(bad[:len(bad):len(bad)], small)}})
	require.NoError(t, err)
	assert.Equal(t, "b (smaller).jpg", list[0].Path)
	_, err = b.Bring(t.Context(), []bringback.Wanted{{Path: "c.jpg", Copies: bad}})
	require.ErrorIs(t, err, bringback.ErrNoCopy)
	assert.Contains(t, err.Error(), "attic: What lies there is not what was proven")
	b.Tidy()
	assert.Equal(t, map[string]string{"a.jpg": "boat", "b (smaller).jpg": "bo"}, all(t, dir), "nothing of the others is left")
}

func TestPathsThatLeadOutAreRefused(t *testing.T) {
	t.Parallel()
	p := places{dir: t.TempDir()}
	root, dir := target(t)
	b := bringback.Bringer{Driver: p.get, Root: root}
	c := p.lies(t, "shed", "a.jpg", []byte("boat"))
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, dir+"/link"))
	for _, name := range []string{"../a.jpg", "x/../../a.jpg", "..", "", ".", "/", "//", "link/a.jpg", "x/.."} {
		_, err := b.Bring(t.Context(), []bringback.Wanted{{Path: name, Copies: []bringback.At{c}}})
		assert.Error(t, err, name)
	}
	assert.Empty(t, all(t, outside))
	// Names that no file system holds are mapped; all others are kept as they were.
	for name, want := range map[string]string{"/abs/a.jpg": "abs/a.jpg", "nul\x00.jpg": "nul_.jpg", `back\slash.jpg`: `back\slash.jpg`,
		"bad\xff.jpg": "bad\xff.jpg", "...jpg": "...jpg", strings.Repeat("é", 200) + ".jpg": ""} {
		list, err := b.Bring(t.Context(), []bringback.Wanted{{Path: name, Copies: []bringback.At{c}}})
		require.NoError(t, err, name)
		if want != "" {
			assert.Equal(t, want, list[0].Path)
		}
		assert.FileExists(t, filepath.Join(dir, list[0].Path))
	}
}

// Cuts at random, starts anew, places that rot and answer falsely, and somebody who writes into the folder meanwhile: what
// is brought back is whole, nothing of anybody else's is changed, and nothing is read twice but the part that was cut.
func TestCutAgainAndAgain(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(24, seed))
		p := places{dir: t.TempDir()}
		root, dir := target(t)
		end := func() {}
		p.fail = func(_ string, from io.Reader) io.Reader {
			left := r.IntN(60_000)
			return readerFunc(func(b []byte) (int, error) {
				if left <= 0 {
					if r.IntN(2) == 0 {
						end() // as a kill does
						return 0, context.Canceled
					}
					return 0, errors.New("the line was cut")
				}
				n, err := from.Read(b[:min(len(b), 1+r.IntN(9000))])
				left -= n
				return n, err
			})
		}
		var files []bringback.Wanted
		want, theirs := map[string][]byte{}, map[string]string{}
		for i := range 12 {
			content := make([]byte, r.IntN(50_000))
			for j := range content {
				content[j] = byte(r.Uint32())
			}
			name := fmt.Sprintf("%d/p%d.jpg", i%3, i)
			first := p.lies(t, "shed", name, content)
			if r.IntN(3) == 0 && len(content) > 0 { // it rotted
				bad := append([]byte{}, content...)
				bad[r.IntN(len(bad))] ^= 1
				require.NoError(t, os.WriteFile(filepath.Join(p.dir, "shed", name), bad, 0o644))
			}
			files = append(files, bringback.Wanted{Path: name, Modified: taken, Copies: []bringback.At{first, p.lies(t, "locker", name, content)}})
			want[name] = content
			if r.IntN(4) == 0 {
				theirs[name] = "somebody's own " + name
				require.NoError(t, os.MkdirAll(filepath.Join(dir, path.Dir(name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(theirs[name]), 0o644))
			}
		}
		got := map[string]string{}
		for round := 0; len(got) < len(files); round++ {
			require.Less(t, round, 3000)
			f := files[r.IntN(len(files))]
			ctx, cancel := context.WithCancel(t.Context())
			end = cancel
			list, err := bringback.Bringer{Driver: p.get, Root: root}.Bring(ctx, []bringback.Wanted{f})
			cancel()
			if err == nil {
				if before, done := got[f.Path]; done {
					assert.Equal(t, before, list[0].Path)
					assert.True(t, list[0].Had)
				}
				got[f.Path] = list[0].Path
			}
		}
		there := all(t, dir)
		for name, content := range want {
			assert.Equal(t, sum(content), sum([]byte(there[got[name]])), name)
			delete(there, got[name])
		}
		for name, content := range theirs {
			assert.Equal(t, content, there[name])
			delete(there, name)
		}
		for name := range there {
			assert.True(t, strings.HasPrefix(name, ".yardtide-back/"), "nothing else is there: %s", name)
		}
	}
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(b []byte) (int, error) { return f(b) }
