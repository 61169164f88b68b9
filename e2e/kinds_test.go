package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

// kindsPlan sends raw files and documents to one disk and the rest of the pictures to
// both, leaves some out, and long films to the second alone.
func kindsPlan(dir, scope string) string {
	return `format: 2
yard: Desk
timezone: UTC
destinations:
  disk: {kind: folder, path: ` + dir + `/disk}
  loft: {kind: folder, path: ` + dir + `/loft}
devices:
  desk:
    sources: [{folder: in, rules: [papers, films, rest]` + scope + `}]
rules:
  papers: {take: [raw, document], to: [disk], lanes: [{over: wifi}]}
  films: {take: [video], longer-than: 1 min, larger-than: 30 kB, to: [loft], lanes: [{over: wifi}]}
  rest: {take: [photo, graphic, video], to: [disk, loft], lanes: [{over: wifi}]}
`
}

// lying lists the names of the copies at a disk.
func lying(t *testing.T, disk string) (names []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(disk, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && d.Name()[0] != '.' && !strings.Contains(path, "/records/") &&
			!strings.HasPrefix(d.Name(), "SHA256SUMS") && !strings.HasPrefix(d.Name(), "index-") {
			names = append(names, d.Name())
		}
		return err
	}))
	slices.Sort(names)
	return names
}

// Every kind goes by the rule that takes it, by its content and whatever its name says;
// a scope leaves out what it says, and takes it up again when the plan does.
func TestEveryKindGoesByItsRuleAndScopesLeaveOut(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	require.NoError(t, os.MkdirAll(dir+"/loft", 0o755))
	require.NoError(t, os.MkdirAll(dir+"/in/Screenshots", 0o755))
	require.NoError(t, os.MkdirAll(dir+"/in/.hidden", 0o755))
	plan := func(scope string) {
		t.Helper()
		require.NoError(t, os.WriteFile(dir+"/plan.yaml", []byte(kindsPlan(dir, scope)), 0o644))
		s.ok("plan", "apply", dir+"/plan.yaml")
	}
	plan(`, only: [nothing]`)
	write := func(name string, content []byte) {
		t.Helper()
		require.NoError(t, os.WriteFile(dir+"/in/"+name, content, 0o644))
		past := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(dir+"/in/"+name, past, past))
	}
	photo, err := standin.JPEG(1, 200, time.Date(2024, 5, 1, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	drawn, err := standin.PNG(2, 64)
	require.NoError(t, err)
	write("photo.txt", photo) // the name lies
	write("shot.png", drawn)
	write("Screenshots/shot2.png", append(drawn, 1))
	write("sensor.jpg", append([]byte("FUJIFILMCCD-RAW 0201FF129502"), make([]byte, 200)...))
	write("notes.md", []byte("The larch for the keel came on Tuesday.\n"))
	write("tune.wav", []byte("RIFF\x24\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00"))
	write("spare.zip", []byte("PK\x03\x04 and so on"))
	write(".hidden/kept.jpg", append(photo, 2))
	require.NoError(t, standin.Clip(dir+"/in/clip.mp4", 3, 160, 2, time.Date(2025, 5, 1, 12, 0, 0, 0, time.UTC)))
	info, err := os.Stat(dir + "/in/clip.mp4")
	require.NoError(t, err)
	clip, err := os.ReadFile(dir + "/in/clip.mp4")
	require.NoError(t, err)
	write("film.mp4", append(clip, make([]byte, 40_000)...))
	require.Less(t, info.Size(), int64(30_000))

	apply := func(scope string, disk, loft []string) {
		t.Helper()
		plan(scope)
		defer func() {
			assert.Equal(t, disk, lying(t, dir+"/disk"), scope)
			assert.Equal(t, loft, lying(t, dir+"/loft"), scope)
		}()
		s.until("safe", func(y wire.Yard) bool {
			waiting := total(y, queue.Waiting) + total(y, queue.Sending) + total(y, queue.Proving) + total(y, queue.Preparing)
			return waiting == 0 && slices.Equal(lying(t, dir+"/disk"), disk) && slices.Equal(lying(t, dir+"/loft"), loft)
		})
	}
	disk, loft := []string{"clip.mp4", "notes.md", "photo.txt", "sensor.jpg"}, []string{"clip.mp4", "film.mp4",
		"photo.txt"}
	apply(`, leave-out: ["*.png"]`, disk, loft)
	assert.Contains(t, s.ok("queue", "-kind", "raw"), "in/sensor.jpg")
	assert.Contains(t, s.ok("status"), "Everything is safe: 5 files.", "documents are no pictures")
	apply(`, leave-out: [Screenshots/], taken-until: 2026-01-01`, disk, loft) // the drawings have their file's time
	disk, loft = append(disk, "shot.png"), append(loft, "shot.png")
	// what is stored stays; hidden, but of 2024
	apply(`, leave-out: [Screenshots/], hidden: true, taken-from: 2025-01-01`, disk, loft)
	disk, loft = append(disk, "kept.jpg"), append(loft, "kept.jpg")
	slices.Sort(disk)
	slices.Sort(loft)
	apply(`, leave-out: [Screenshots/], hidden: true`, disk, loft)
	write("shot3.png", append(drawn, 3))
	disk, loft = append(disk, "shot3.png"), append(loft, "shot3.png")
	apply(`, leave-out: [Screenshots/], new-since: `+time.Now().Format(time.DateOnly), disk, loft)
	assert.Contains(t, s.ok("why", "shot2.png"), `Left out by "Screenshots/".`)
	assert.Contains(t, s.ok("why", "tune.wav"), "No rule of the source takes sound files like it.")
	y := s.yard()
	assert.Zero(t, total(y, queue.Stuck))
	assert.Contains(t, s.ok("source", "list"), "in by papers, then films, then rest; not Screenshots/, new since")
}
