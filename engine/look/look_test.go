package look_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/look"
	"yardtide/standin"
)

func write(t testing.TB, dir, name string, content []byte) {
	t.Helper()
	file := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, content, 0o644))
	day := time.Date(2023, 6, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(file, day, day))
}

func at(t testing.TB, dir string, o look.Options) look.Totals {
	t.Helper()
	sum, err := look.At(t.Context(), dir, o, func(look.Totals) {})
	require.NoError(t, err)
	return sum
}

func TestALookTellsWhatIsThere(t *testing.T) {
	dir := t.TempDir()
	photo, err := standin.JPEG(1, 100, time.Date(2019, 5, 1, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	drawn, err := standin.PNG(2, 64)
	require.NoError(t, err)
	write(t, dir, "Trip/a.jpg", photo)
	write(t, dir, "Trip/Day 2/b.txt", photo) // the name lies
	write(t, dir, "Shots/s.png", drawn)
	write(t, dir, "notes.md", []byte("larch\n"))
	write(t, dir, ".cache/x.jpg", photo)
	write(t, dir, ".dot.jpg", photo)
	write(t, dir, "empty.jpg", nil)
	write(t, dir, "Place/.marker", nil)
	write(t, dir, "Place/copy.jpg", photo)
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "link.jpg")))
	p := &plan.Plan{}
	chooser := p.Chooser(plan.Source{Scope: plan.Scope{LeaveOut: []string{"Shots/"}}}, time.UTC)
	sum := at(t, dir, look.Options{
		Choose: chooser.LeavesOut,
		Place: func(dir string, _ fs.FileInfo) bool {
			_, err := os.Lstat(filepath.Join(dir, ".marker"))
			return err == nil
		},
	})
	size := int64(len(photo))
	assert.Equal(t, map[media.Kind]look.Amount{media.Photo: {N: 3, Bytes: 2 * size}, media.Document: {N: 1, Bytes: 6}},
		sum.Kinds)
	assert.Equal(t, map[int]look.Amount{2019: {N: 2, Bytes: 2 * size}, 2023: {N: 2, Bytes: 6}}, sum.Years)
	assert.Equal(t, map[string]look.Amount{
		"Hidden files are left out.": {N: 2, Bytes: size}, `Left out by "Shots/".`: {N: 1, Bytes: int64(len(drawn))},
		"Copies go to this folder: it is not taken up.": {N: 1},
	}, sum.LeftOut, "of a hidden folder only itself is counted")
	assert.Equal(t, look.Amount{N: 2, Bytes: 2 * size}, sum.Folders["Trip"])
	assert.Equal(t, look.Amount{N: 3, Bytes: size + 6}, sum.Folders["."])
	assert.Equal(t, look.Amount{N: 6, Bytes: 3*size + 6 + int64(len(drawn))}, sum.All)
	assert.ElementsMatch(t, []string{"Trip/a.jpg", "Trip/Day 2/b.txt"}, withoutEmpty(sum.Pictures))
	assert.Equal(t, sum.All.N, sum.Known)
	assert.Zero(t, sum.Unreadable)
}

func withoutEmpty(pictures []look.Picture) (list []string) {
	for _, p := range pictures {
		if p.Path != "empty.jpg" {
			list = append(list, p.Path)
		}
	}
	return list
}

// Whatever is told on the way, what comes last counts each file once, and the figures
// agree with one another.
func TestTheFiguresAgreeWhileItCounts(t *testing.T) {
	dir := t.TempDir()
	photo, err := standin.JPEG(1, 32, time.Date(2019, 5, 1, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	for i := range 2000 {
		name := fmt.Sprintf("%d/%d.%s", i%7, i, []string{"jpg", "png", "pdf", "bin"}[i%4])
		write(t, dir, name, photo)
	}
	told := 0
	sum, err := look.At(t.Context(), dir, look.Options{Choose: func(f plan.File) string {
		if f.Kind == media.Document {
			return "no documents"
		}
		return ""
	}}, func(s look.Totals) {
		told++
		var kinds, years, left, folders int64
		for _, a := range s.Kinds {
			kinds += a.N
		}
		for _, a := range s.Years {
			years += a.N
		}
		for _, a := range s.LeftOut {
			left += a.N
		}
		for _, a := range s.Folders {
			folders += a.N
		}
		assert.Equal(t, s.All.N, kinds+left)
		assert.Equal(t, kinds, years)
		assert.Equal(t, s.All.N, folders)
	})
	require.NoError(t, err)
	assert.Positive(t, told)
	assert.Equal(t, int64(2000), sum.Kinds[media.Photo].N, "by its content everything is a photo")
	assert.Empty(t, sum.LeftOut)
	assert.Len(t, sum.Pictures, 6)
}

func TestWhatCannotBeLookedAtIsSaid(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "file", []byte("x"))
	for path, says := range map[string]string{dir + "/none": "there is no folder",
		dir + "/file": "is a file and not a folder"} {
		_, err := look.At(t.Context(), path, look.Options{}, func(look.Totals) {})
		assert.ErrorContains(t, err, says)
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err := look.At(ctx, dir, look.Options{}, func(look.Totals) {})
	assert.ErrorIs(t, err, context.Canceled)
	if os.Geteuid() == 0 {
		t.Log("root reads everything: what may not be read is not tried")
		return
	}
	write(t, dir, "shut/x.jpg", []byte("x"))
	require.NoError(t, os.Chmod(dir+"/shut", 0))
	t.Cleanup(func() { _ = os.Chmod(dir+"/shut", 0o755) })
	assert.Equal(t, int64(1), at(t, dir, look.Options{}).Unreadable)
}
