package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/sensor"
	"yardtide/service/library"
	"yardtide/wire"
	"yardtide/wire/bringwire"
)

// 1,000 pictures of 3 MB are brought back from Apache by WebDAV into a folder, each verified, put in place whole and on disk;
// against curl with four at once and sha256sum over what came. Bound: 1.0x.
func BenchmarkBringBack(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		const n = 1000
		files := many(b, dir, n, 3_000_000)
		a := startApache(b, dir+"/apache")
		upload(b, dir, onDAV(a.URL), n)
		var list, sums strings.Builder
		require.NoError(b, filepath.WalkDir(a.Root, func(p string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || filepath.Ext(p) != ".jpg" {
				return err
			}
			rel, err := filepath.Rel(a.Root, p)
			fmt.Fprintf(&list, "url = %q\noutput = %q\n", a.URL+filepath.ToSlash(rel), filepath.Join(dir, "theirs", rel))
			fmt.Fprintf(&sums, "%s\n", filepath.Join(dir, "theirs", rel))
			return err
		}))
		config := filepath.Join(dir, "list")
		require.NoError(b, os.WriteFile(config, []byte(list.String()), 0o644))
		began := time.Now()
		out, err := exec.Command("curl", "-sS", "-f", "--create-dirs", "--parallel", "--parallel-max", "4", "-K", config).CombinedOutput()
		require.NoError(b, err, "%s", out)
		hash := exec.Command("xargs", "-d", "\n", "-n", "50", "-P", "2", "sha256sum")
		hash.Stdin = strings.NewReader(sums.String())
		_, err = hash.Output()
		require.NoError(b, err)
		theirs := time.Since(began)
		require.NoError(b, os.RemoveAll(dir+"/theirs"))

		var sense sensor.Set
		sense.Put(gate.Conditions{Network: plan.WiFi, Metered: gate.No, Charging: gate.Yes, Battery: -1})
		s, done := open(b, dir, "", &sense)
		refs, err := s.Library.Refs(b.Context(), library.Question{}, 2*n)
		require.NoError(b, err)
		resetPeak(b)
		began = time.Now()
		j, err := s.Bringing.Begin(b.Context(), refs, bringwire.BringAsked{Folder: dir + "/ours"})
		require.NoError(b, err)
		for j.State == wire.JobRunning {
			time.Sleep(5 * time.Millisecond)
			j, err = s.Jobs.Get(j.ID)
			require.NoError(b, err)
		}
		ours := time.Since(began)
		require.Equal(b, wire.JobDone, j.State, j.Says)
		require.EqualValues(b, n, j.Back.N)
		done()
		for _, f := range files[:3] {
			require.FileExists(b, filepath.Join(dir, "ours/in", filepath.Base(f)))
		}
		b.ReportMetric(theirs.Seconds(), "curl+sha256sum-s")
		bounded(b, ours.Seconds()/theirs.Seconds(), "of-it-x", 1)
		bounded(b, peakMiB(b), "peak-MiB", 100)
	}
}
