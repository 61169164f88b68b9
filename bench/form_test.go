package bench

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// large is a picture with slopes, edges and grain.
func large(b *testing.B, dir string, w, h int) string {
	b.Helper()
	img := image.NewYCbCr(image.Rect(0, 0, w, h), image.YCbCrSubsampleRatio420)
	grain := uint32(1)
	for y := range h {
		for x := range w {
			grain = grain*1664525 + 1013904223
			v := 40 + 150*y/h + int(grain>>29)
			if (x/137+y/153)%7 == 0 {
				v = 220 - x*60/w
			}
			img.Y[y*img.YStride+x] = uint8(v)
			img.Cb[(y/2)*img.CStride+x/2], img.Cr[(y/2)*img.CStride+x/2] = uint8(80+90*x/w), uint8(150-60*y/h)
		}
	}
	var out bytes.Buffer
	require.NoError(b, jpeg.Encode(&out, img, &jpeg.Options{Quality: 92}))
	file := filepath.Join(dir, fmt.Sprintf("%d.jpg", w))
	require.NoError(b, os.WriteFile(file, out.Bytes(), 0o644))
	return file
}

// BenchmarkPictureMadeSmaller compares a whole process of ours with one of vipsthumbnail that
// does the same: CPU seconds, medians of five pairs, and how much memory ours had at most.
func BenchmarkPictureMadeSmaller(b *testing.B) {
	yardtide, err := filepath.Abs("../bin/yardtide")
	require.NoError(b, err)
	for _, size := range []struct {
		name string
		w, h int
	}{{"12MP", 4032, 3024}, {"48MP", 8064, 6048}} {
		b.Run(size.name, func(b *testing.B) {
			dir := b.TempDir()
			file := large(b, dir, size.w, size.h)
			run := func(name string, args ...string) (cpu time.Duration, most int64) {
				cmd := exec.Command(name, args...)
				cmd.Env = append(os.Environ(), "VIPS_CONCURRENCY=1", "YARDTIDE_URL=http://127.0.0.1:1", "YARDTIDE_TOKEN=none")
				out, err := cmd.CombinedOutput()
				require.NoError(b, err, "%s", out)
				return cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime(), cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
			}
			var ours, theirs []time.Duration
			most := int64(0)
			for n := range 5 {
				cpu, rss := run(yardtide, "try", file, "-long-edge", "2560", "-o", fmt.Sprintf("%s/ours-%d.jpg", dir, n))
				ours, most = append(ours, cpu), max(most, rss)
				cpu, _ = run("vipsthumbnail", file, "--size", "2560x2560", "-o", fmt.Sprintf("%s/theirs-%d.jpg[Q=82]", dir, n))
				theirs = append(theirs, cpu)
			}
			slices.Sort(ours)
			slices.Sort(theirs)
			b.ReportMetric(ours[2].Seconds(), "ours-s")
			b.ReportMetric(theirs[2].Seconds(), "vips-s")
			b.ReportMetric(ours[2].Seconds()/theirs[2].Seconds(), "x-vips")
			b.ReportMetric(float64(most)/(1<<20), "MiB-at-most")
		})
	}
}
