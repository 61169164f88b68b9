package scan_test

import (
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/scan"
)

// book keeps what is found in memory and counts how often.
type book struct {
	mu       sync.Mutex
	files    map[string]scan.File
	found    map[string]int
	scans    int
	problems []scan.Problem
}

func (b *book) Dir(_ context.Context, dir string) (map[string]scan.Stamp, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	known := map[string]scan.Stamp{}
	for _, f := range b.files {
		if f.Dir == dir {
			known[f.Name] = f.Stamp
		}
	}
	return known, nil
}

func (b *book) From(ctx context.Context, dir string) (map[string]map[string]scan.Stamp, error) {
	known, err := b.Dir(ctx, dir)
	return map[string]map[string]scan.Stamp{dir: known}, err
}

func (b *book) Dirs(context.Context) ([]string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	dirs := map[string]bool{}
	for _, f := range b.files {
		dirs[f.Dir] = true
	}
	return slices.Collect(maps.Keys(dirs)), nil
}

func (b *book) Found(_ context.Context, files []scan.File) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, f := range files {
		b.files[f.Path()] = f
		b.found[f.Path()]++
	}
	return nil
}

func (b *book) Gone(_ context.Context, dir string, names []string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, n := range names {
		delete(b.files, scan.File{Dir: dir, Name: n}.Path())
	}
	return nil
}

func (b *book) Scanned(p []scan.Problem) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.scans++
	b.problems = p
}

func (b *book) names() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Sorted(maps.Keys(b.files))
}

func (b *book) times(path string) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.found[path]
}

func (b *book) says() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	var all []string
	for _, p := range b.problems {
		all = append(all, p.Path+": "+p.Says+" "+p.Todo)
	}
	return strings.Join(all, "\n")
}

const quiet = 150 * time.Millisecond

// begin scans a folder until the test ends.
func begin(t *testing.T, root string) *book {
	t.Helper()
	b := &book{files: map[string]scan.File{}, found: map[string]int{}}
	beginWith(t, root, b, quiet)
	return b
}

func beginWith(t *testing.T, root string, b *book, quiet time.Duration) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		done <- scan.Run(ctx, root, b, scan.Options{Quiet: quiet, Poll: 100 * time.Millisecond})
	}()
	stop = sync.OnceFunc(func() { cancel(); assert.NoError(t, <-done) })
	t.Cleanup(stop)
	return stop
}

func write(t testing.TB, file, content string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
}

// old writes a file that has rested.
func old(t testing.TB, file, content string) {
	t.Helper()
	write(t, file, content)
	at := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(file, at, at))
}

func eventually(t testing.TB, what string, true_ func() bool) {
	t.Helper()
	require.Eventually(t, true_, time.Minute, 10*time.Millisecond, what)
}

func has(b *book, want ...string) func() bool {
	slices.Sort(want)
	return func() bool { return slices.Equal(b.names(), want) }
}

func TestWhatIsThereAndWhatComes(t *testing.T) {
	root := t.TempDir()
	old(t, root+"/a.jpg", "a")
	old(t, root+"/sub/deep/b.jpg", "b")
	old(t, root+"/.hidden/c.jpg", "c")
	old(t, root+"/.d.jpg", "d")
	old(t, root+"/e.jpg.part", "e")
	b := begin(t, root)
	eventually(t, "the first walk", has(b, "a.jpg", "sub/deep/b.jpg"))
	write(t, root+"/new.jpg", "n")
	write(t, root+"/made/later/x.jpg", "x")
	eventually(t, "what came", has(b, "a.jpg", "sub/deep/b.jpg", "new.jpg", "made/later/x.jpg"))
	require.NoError(t, os.Remove(root+"/a.jpg"))
	require.NoError(t, os.RemoveAll(root+"/sub"))
	require.NoError(t, os.Rename(root+"/made", root+"/moved"))
	eventually(t, "what went", has(b, "new.jpg", "moved/later/x.jpg"))
	write(t, root+"/sub/deep/again.jpg", "y")
	write(t, root+"/moved/later/y.jpg", "y")
	eventually(t, "folders that moved or come back are watched",
		has(b, "new.jpg", "moved/later/x.jpg", "moved/later/y.jpg", "sub/deep/again.jpg"))
}

func TestNothingIsToldTwiceWhenNothingChanged(t *testing.T) {
	root := t.TempDir()
	for i := range 450 { // more than one batch
		old(t, fmt.Sprintf("%s/%03d.jpg", root, i), "x")
	}
	b := &book{files: map[string]scan.File{}, found: map[string]int{}}
	stop := beginWith(t, root, b, quiet)
	eventually(t, "all", func() bool { return len(b.names()) == 450 })
	stop()
	beginWith(t, root, b, quiet)
	write(t, root+"/new.jpg", "n")
	eventually(t, "the new one", func() bool { return b.times("new.jpg") == 1 })
	assert.Equal(t, 1, b.times("000.jpg"))
	assert.Equal(t, 1, b.times("449.jpg"))
}

func TestAFileBeingWrittenIsLeftUntilQuiet(t *testing.T) {
	root := t.TempDir()
	b := &book{files: map[string]scan.File{}, found: map[string]int{}}
	beginWith(t, root, b, 2*time.Second) // long against a stall of this machine
	f, err := os.Create(root + "/long.mp4")
	require.NoError(t, err)
	for range 8 {
		_, err := f.WriteString("more")
		require.NoError(t, err)
		time.Sleep(50 * time.Millisecond)
		require.Zero(t, b.times("long.mp4"), "it still grows")
	}
	require.NoError(t, f.Close())
	eventually(t, "it rests", func() bool { return b.times("long.mp4") == 1 })
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.EqualValues(t, 32, b.files["long.mp4"].Size)
}

func TestAChangeOfContentOrTimeIsTold(t *testing.T) {
	root := t.TempDir()
	old(t, root+"/a.jpg", "one")
	b := begin(t, root)
	eventually(t, "first", func() bool { return b.times("a.jpg") == 1 })
	write(t, root+"/a.jpg", "longer")
	eventually(t, "changed", func() bool { return b.times("a.jpg") == 2 })
}

func TestLinksAreNotFollowed(t *testing.T) {
	root := t.TempDir()
	old(t, root+"/a.jpg", "a")
	require.NoError(t, os.Symlink(root, root+"/round"))
	require.NoError(t, os.Symlink(root+"/a.jpg", root+"/b.jpg"))
	require.NoError(t, os.Symlink("nowhere", root+"/c.jpg"))
	b := begin(t, root)
	eventually(t, "the file", has(b, "a.jpg"))
	assert.Empty(t, b.says())
}

func TestASourceThatIsALinkIsFollowed(t *testing.T) {
	root := t.TempDir()
	old(t, root+"/real/a.jpg", "a")
	require.NoError(t, os.Symlink("real", root+"/link"))
	b := begin(t, root+"/link")
	eventually(t, "through the link", has(b, "a.jpg"))
	write(t, root+"/real/b.jpg", "b")
	eventually(t, "and watched", has(b, "a.jpg", "b.jpg"))
}

func TestASourceThatCannotBeWalkedSaysSoAndComesBack(t *testing.T) {
	root := t.TempDir()
	b := begin(t, root+"/later")
	eventually(t, "missing", func() bool { return strings.Contains(b.says(), "later: The folder is not there. Make it") })
	old(t, root+"/later/a.jpg", "a")
	eventually(t, "there", has(b, "a.jpg"))
	assert.Empty(t, b.says())

	old(t, root+"/file", "x")
	f := begin(t, root+"/file")
	eventually(t, "a file", func() bool { return strings.Contains(f.says(), "This is a file and not a folder") })
}

func TestAnUnmountedDiskMakesNothingGone(t *testing.T) {
	root := t.TempDir()
	old(t, root+"/disk/a.jpg", "a")
	old(t, root+"/disk/sub/b.jpg", "b")
	b := begin(t, root+"/disk")
	eventually(t, "both", has(b, "a.jpg", "sub/b.jpg"))
	require.NoError(t, os.Rename(root+"/disk", root+"/away"))
	eventually(t, "missing", func() bool { return strings.Contains(b.says(), "The folder is not there") })
	assert.Equal(t, []string{"a.jpg", "sub/b.jpg"}, b.names())
	require.NoError(t, os.Mkdir(root+"/disk", 0o755))
	eventually(t, "an empty mount point", func() bool {
		return strings.Contains(b.says(), "The folder is suddenly empty")
	})
	assert.Equal(t, []string{"a.jpg", "sub/b.jpg"}, b.names())
	require.NoError(t, os.Remove(root+"/disk"))
	require.NoError(t, os.Rename(root+"/away", root+"/disk"))
	eventually(t, "mounted again", func() bool { return b.says() == "" })
	assert.Equal(t, 1, b.times("a.jpg"), "and nothing is new")
}

// An inbox is emptied as what is in it gets safe: that is no disk that went.
func TestAFolderThatMayBeEmptyIsEmptied(t *testing.T) {
	root := t.TempDir()
	old(t, root+"/a.jpg", "a")
	b := beginSlowly(t, root, scan.Options{MayEmpty: true})
	eventually(t, "found", has(b, "a.jpg"))
	require.NoError(t, os.Remove(root+"/a.jpg"))
	eventually(t, "gone", func() bool { return len(b.names()) == 0 })
	assert.Empty(t, b.says())
	old(t, root+"/b.jpg", "b")
	eventually(t, "the next", has(b, "b.jpg"))
}

// A folder that cannot be read stops nothing else. Root may read everything, so
// this runs in a process of another user where the tests run as root.
func TestAnUnreadableFolderStopsNothingElse(t *testing.T) {
	if os.Geteuid() == 0 {
		asNobody(t)
		return
	}
	root := t.TempDir()
	old(t, root+"/a.jpg", "a")
	old(t, root+"/shut/b.jpg", "b")
	old(t, root+"/z/c.jpg", "c")
	b := &book{files: map[string]scan.File{}, found: map[string]int{}}
	stop := beginWith(t, root, b, quiet)
	eventually(t, "all", has(b, "a.jpg", "shut/b.jpg", "z/c.jpg"))
	stop()
	require.NoError(t, os.Chmod(root+"/shut", 0))
	t.Cleanup(func() { _ = os.Chmod(root+"/shut", 0o755) })
	old(t, root+"/z/d.jpg", "d")
	beginWith(t, root, b, quiet)
	eventually(t, "the rest goes on", has(b, "a.jpg", "shut/b.jpg", "z/c.jpg", "z/d.jpg"))
	assert.Contains(t, b.says(), "shut: The folder cannot be read: permission denied. Allow reading it.")
}

// asNobody runs this test again as a user that is not root.
func asNobody(t *testing.T) {
	t.Helper()
	dir, err := os.MkdirTemp("", "scan-as-nobody-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o777))
	self, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	binary := filepath.Join(dir, "scan.test")
	require.NoError(t, os.WriteFile(binary, self, 0o755))
	cmd := exec.CommandContext(t.Context(), binary, "-test.run", "^"+t.Name()+"$", "-test.v")
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "TMPDIR="+dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "--- PASS: "+t.Name())
}

func TestNamesOfEverySort(t *testing.T) {
	root := t.TempDir()
	names := []string{strings.Repeat("n", 251) + ".jpg", "new\nline.jpg", `"q" '50%'.jpg`, "tide 🌊.jpg",
		"cafe\u0301.jpg", "bad\xff.jpg"}
	for _, n := range names {
		old(t, filepath.Join(root, n), n)
	}
	b := begin(t, root)
	eventually(t, "all", has(b, names...))
}
