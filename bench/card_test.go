package bench

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/engine/card"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/standin"
)

// A card of 1,000 pictures surveyed and compared with 20,000 items that are known, against reading its directory and
// the first and last 16 KiB of each file with nothing else. Bound: 5x.
func BenchmarkCard(b *testing.B) {
	dir := b.TempDir()
	photo, err := standin.JPEG(1, 1200, time.Now())
	require.NoError(b, err)
	photo = append(photo, make([]byte, 400_000)...)
	for i := range 1000 {
		folder := fmt.Sprintf("%s/DCIM/%dBOATS", dir, 100+i/500)
		require.NoError(b, os.MkdirAll(folder, 0o755))
		require.NoError(b, os.WriteFile(fmt.Sprintf("%s/BOAT%04d.JPG", folder, i), append(photo, fmt.Sprint(i)...), 0o644))
	}
	r, err := recordstest.Open(b.Context(), b.TempDir()+"/records.db")
	require.NoError(b, err)
	defer func() { require.NoError(b, r.Close()) }()
	p := &plan.Plan{Rules: map[string]plan.Rule{"all": {}}}
	for from := range 20 {
		items := make([]records.Item, 1000)
		for i := range items {
			items[i] = records.Item{Source: "in", Dir: fmt.Sprint(from), Name: fmt.Sprintf("%d.jpg", i), Size: int64(len(photo) + i%4),
				Look: fmt.Sprintf("%024d", from*1000+i), Kind: "photo"}
		}
		require.NoError(b, r.Catalogue.Admit(b.Context(), items, p, time.Now()))
	}
	for range b.N {
		began := time.Now()
		edge := make([]byte, 16<<10)
		n := 0
		require.NoError(b, filepath.WalkDir(dir, func(at string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			f, err := os.Open(at)
			require.NoError(b, err)
			info, err := f.Stat()
			require.NoError(b, err)
			for _, from := range []int64{0, info.Size() - int64(len(edge))} {
				_, err = f.ReadAt(edge, from)
				require.True(b, err == nil || err == io.EOF)
			}
			n++
			return f.Close()
		}))
		require.Equal(b, 1000, n)
		reference := time.Since(began)
		began = time.Now()
		found, err := card.Look(b.Context(), dir, func(ctx context.Context, of []records.Content) (map[records.Content]records.Held, error) {
			return r.Queue.Held(ctx, of, "")
		})
		require.NoError(b, err)
		require.EqualValues(b, 1000, found.Pictures)
		b.ReportMetric(time.Since(began).Seconds()*1000, "ms")
		bounded(b, float64(time.Since(began))/float64(reference), "x-reading", 5)
	}
}
