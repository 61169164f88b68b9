package stray_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/engine/stray"
)

func write(t require.TestingT, root string, files ...string) {
	for i, name := range files {
		file := filepath.Join(root, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte("tide"), 0o644))
		at := time.Date(2026, 3, 1, 0, i, 0, 0, time.UTC)
		require.NoError(t, os.Chtimes(file, at, at))
	}
}

func TestStraysAreToldByTheirHighestFolderWithoutASource(t *testing.T) {
	root := t.TempDir()
	write(t, root, "Pictures/Regatta/in.jpg", "Pictures/Regatta/deep/in.MOV", "Pictures/Old phone/a.heic",
		"Pictures/Old phone/b/c.DNG", "Pictures/direct.jpg", "Downloads/x/y/boat.png", "Downloads/notes.txt", "root.mp4",
		"Scans/be.jpg", "Scans/deep/be.jpg", ".hidden/x.jpg", "src/node_modules/logo.png", "asks/.nomedia", "asks/a.jpg",
		"cache/a.jpg", ".thumb.jpg", "odd/no ending", "odd/jpg")
	require.NoError(t, os.WriteFile(root+"/cache/CACHEDIR.TAG", []byte("Signature: 8a477f597d28d172789f06886806bc55\n"), 0o644))
	require.NoError(t, os.Symlink(root+"/Downloads", root+"/again"))
	require.NoError(t, os.Symlink(root, root+"/Downloads/loop"))
	require.NoError(t, os.Link(root+"/root.mp4", root+"/Downloads/twice.mp4"))
	require.NoError(t, os.MkdirAll(root+"/copies", 0o755))
	write(t, root, "copies/2026/03/in.jpg")
	write(t, root, "data/renditions/ours.jpg")
	place, err := os.Stat(root + "/copies")
	require.NoError(t, err)
	found, err := stray.Look(t.Context(), stray.Options{Root: root, Sources: []string{root + "/Pictures/Regatta"},
		LetBe: []string{root + "/Scans"}, Own: []string{root + "/data/renditions"}, Place: func(info os.FileInfo) bool { return os.SameFile(info, place) }})
	require.NoError(t, err)
	told := map[string]int64{}
	for _, f := range found.Folders {
		name := f.Path
		if f.Alone {
			name += " alone"
		}
		told[name] = f.N
		assert.Equal(t, 4*f.N, f.Bytes)
	}
	assert.Equal(t, map[string]int64{"Pictures/Old phone": 2, "Pictures alone": 1, "Downloads": 2}, told,
		"the clip with two names counts once, where it was met first")
	assert.Equal(t, stray.Sum{N: 2, Bytes: 8}, found.Inside)
	assert.Equal(t, stray.Sum{N: 5, Bytes: 20}, found.Outside)
	assert.Equal(t, stray.Sum{N: 2, Bytes: 8}, found.LetBe)
	assert.Equal(t, "Downloads", found.Folders[0].Path, "the newest first")
	var unseen []string
	for _, u := range found.Unseen {
		unseen = append(unseen, u.Path+": "+u.Why)
	}
	assert.Equal(t, []string{".hidden: it is hidden", "asks: a file .nomedia in it asks so", "cache: it is a cache, and says so",
		"src/node_modules: it is a folder of programs, or of what was thrown away"}, unseen)
	old := found.Folders[2]
	assert.Equal(t, map[media.Kind]stray.Sum{media.Photo: {N: 1, Bytes: 4}, media.Raw: {N: 1, Bytes: 4}}, old.Kinds)
}

// A file whose name does not tell what it is is asked by its first bytes, so many in all; the rest is named.
func TestWhatHasNoEndingIsAskedByItsFirstBytes(t *testing.T) {
	root := t.TempDir()
	write(t, root, "Recovered/FILE0001", "Recovered/FILE0002", "Recovered/scan.0001", "Recovered/notes.txt", "Recovered/lib.so",
		"Recovered/a.jpg", "Recovered/.hidden")
	var asked []string
	look := func(most int) stray.Found {
		asked = nil
		found, err := stray.Look(t.Context(), stray.Options{Root: root, MostSniffed: most, Sniff: func(at string) media.Kind {
			asked = append(asked, filepath.Base(at))
			return map[string]media.Kind{"FILE0001": media.Photo, "FILE0002": media.Document, "scan.0001": media.Raw}[filepath.Base(at)]
		}})
		require.NoError(t, err)
		return found
	}
	found := look(10)
	assert.Equal(t, []string{"FILE0001", "FILE0002", "scan.0001"}, asked)
	assert.Equal(t, map[media.Kind]stray.Sum{media.Photo: {N: 2, Bytes: 8}, media.Raw: {N: 1, Bytes: 4}}, found.Folders[0].Kinds)
	assert.Empty(t, found.Unseen)
	found = look(1)
	assert.Equal(t, []string{"FILE0001"}, asked)
	require.Len(t, found.Unseen, 1)
	assert.Contains(t, found.Unseen[0].Why, "2 files whose names do not tell what they are")
}

func TestClosedLibrariesAreTold(t *testing.T) {
	root := t.TempDir()
	write(t, root, "Pictures/Old.case/a.jpg", "Pictures/Kept.case/in/Inner.case/a.jpg", "Old phone/x/Far.case/a.jpg", "Far.case/a.jpg",
		"Empty.case/notes.txt")
	found, err := stray.Look(t.Context(), stray.Options{Root: root, Sources: []string{root + "/Pictures"},
		OriginalsOnly: []string{root + "/Pictures/Kept.case"},
		Closed:        func(dir string) bool { return strings.HasSuffix(dir, ".case") }})
	require.NoError(t, err)
	assert.Equal(t, []string{"Pictures/Old.case"}, found.Libraries)
	libraries := map[string][]string{}
	for _, f := range found.Folders {
		libraries[f.Path] = f.Libraries
	}
	assert.Equal(t, map[string][]string{"Old phone": {"x/Far.case"}, "Far.case": {"."}}, libraries)
}

// A source, and what is let be, are looked into whatever their folders are called.
func TestASourceIsLookedIntoWhateverItIsCalled(t *testing.T) {
	root := t.TempDir()
	write(t, root, ".camera/vendor/in.jpg", ".camera/out.jpg", "Trash/in/deep/.more/a.jpg", "Trash/b.jpg",
		"Trash/.nomedia")
	found, err := stray.Look(t.Context(), stray.Options{Root: root,
		Sources: []string{root + "/.camera/vendor", root + "/Trash/in"}})
	require.NoError(t, err)
	assert.EqualValues(t, 2, found.Inside.N)
	assert.EqualValues(t, 2, found.Outside.N)
}

func TestWhatCannotBeReadIsTold(t *testing.T) {
	none, err := stray.Look(t.Context(), stray.Options{Root: t.TempDir() + "/none"})
	require.NoError(t, err)
	require.Len(t, none.Unseen, 1)
	assert.Contains(t, none.Unseen[0].Why, "it cannot be read: ")
	cut, stop := context.WithCancel(t.Context())
	stop()
	_, err = stray.Look(cut, stray.Options{Root: t.TempDir()})
	require.ErrorIs(t, err, context.Canceled)
	if os.Geteuid() == 0 {
		t.Skip("root reads every folder")
	}
	root := t.TempDir()
	write(t, root, "shut/a.jpg")
	require.NoError(t, os.Chmod(root+"/shut", 0))
	t.Cleanup(func() { _ = os.Chmod(root+"/shut", 0o755) })
	found, err := stray.Look(t.Context(), stray.Options{Root: root})
	require.NoError(t, err)
	require.Len(t, found.Unseen, 1)
	assert.Contains(t, found.Unseen[0].Why, "cannot be read")
}

// On any tree, what is inside, outside, let be and below what was not looked into is all that a plain count finds;
// and each stray counts in one folder.
func TestTheFiguresAreAPlainCount(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		root, err := os.MkdirTemp("", "strays")
		require.NoError(t, err)
		defer os.RemoveAll(root)
		part := rapid.SampledFrom([]string{"a", "b", "Pictures", ".hidden", "vendor", "c d"})
		drawn := rapid.Custom(func(t *rapid.T) string {
			return strings.Join(rapid.SliceOfN(part, 1, 4).Draw(t, "parts"), "/")
		})
		var files []string
		for i := range rapid.IntRange(0, 30).Draw(t, "files") {
			ending := rapid.SampledFrom([]string{"jpg", "MP4", "txt", "cr2"}).Draw(t, "ending")
			files = append(files, fmt.Sprintf("%s/f%d.%s", drawn.Draw(t, "folder"), i, ending))
		}
		write(t, root, files...)
		under := func(folders []string, file string) bool {
			for _, f := range folders {
				if strings.HasPrefix(file, f+"/") {
					return true
				}
			}
			return false
		}
		sources := rapid.SliceOfN(drawn, 0, 3).Draw(t, "sources")
		letBe := rapid.SliceOfN(drawn, 0, 2).Draw(t, "let be")
		at := func(rel []string) (abs []string) {
			for _, r := range rel {
				abs = append(abs, filepath.Join(root, r))
			}
			return abs
		}
		found, err := stray.Look(t.Context(), stray.Options{Root: root, Sources: at(sources), LetBe: at(letBe)})
		require.NoError(t, err)
		var unseen []string
		for _, u := range found.Unseen {
			unseen = append(unseen, u.Path)
		}
		var inside, be, outside int64
		for _, f := range files {
			_, is := media.OfName(f)
			switch {
			case !is:
			case under(sources, f):
				inside++
			case under(unseen, f):
			case under(letBe, f):
				be++
			default:
				outside++
			}
		}
		require.Equal(t, [3]int64{inside, be, outside}, [3]int64{found.Inside.N, found.LetBe.N, found.Outside.N})
		sum := int64(0)
		for _, f := range found.Folders {
			sum += f.N
			require.False(t, under(append(sources, letBe...), f.Path+"/"))
		}
		require.Equal(t, outside, sum)
	})
}
