package bench

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yardtide/engine/stray"
	"yardtide/engine/work"
)

// What sends lose while strays are looked for beside them, without a pause, among 100,000 files. Bound: 1.05x of the
// same sends alone; medians of five in one run.
func BenchmarkStraysBesideSends(b *testing.B) {
	for range b.N {
		tree := b.TempDir()
		for i := range 100_000 {
			name := filepath.Join(tree, fmt.Sprintf("%03d", i/500), fmt.Sprintf("IMG_%06d.jpg", i))
			if i%500 == 0 {
				require.NoError(b, os.MkdirAll(filepath.Dir(name), 0o755))
			}
			require.NoError(b, os.WriteFile(name, nil, 0o644))
		}
		var ratios []float64
		for range 5 {
			dir := b.TempDir()
			many(b, dir, 300, 1<<20)
			a := startApache(b, dir+"/apache")
			alone := untilSafe(b, dir, onDAV(a.URL), 300)

			beside := b.TempDir()
			many(b, beside, 300, 1<<20)
			a = startApache(b, beside+"/apache")
			ctx, stop := context.WithCancel(b.Context())
			done := make(chan struct{})
			go func() {
				work.Idly()
				defer close(done)
				for ctx.Err() == nil {
					_, _ = stray.Look(ctx, stray.Options{Root: tree, Rest: stray.Politely}) // the end of the sends ends it
				}
			}()
			took := untilSafe(b, beside, onDAV(a.URL), 300)
			stop()
			<-done
			ratios = append(ratios, took.Seconds()/alone.Seconds())
		}
		slices.Sort(ratios)
		bounded(b, ratios[2], "beside/alone", 1.05)
	}
}
