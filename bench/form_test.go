package bench

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"yardtide/core/plan"
	"yardtide/engine/face"
	"yardtide/engine/rendition"
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
			pairs(b, 5, func(n int) (string, []string) {
				return yardtide, []string{"try", file, "-long-edge", "2560", "-o", fmt.Sprintf("%s/ours-%d.jpg", dir, n)}
			}, func(n int) (string, []string) {
				return "vipsthumbnail", []string{file, "--size", "2560x2560", "-o", fmt.Sprintf("%s/theirs-%d.jpg[Q=82]", dir, n)}
			}, "vips")
		})
	}
}

// pairs runs whole processes of ours and of another's that do the same, in turn: CPU seconds,
// medians, and how much memory ours had at most.
func pairs(b *testing.B, times int, ours, theirs func(n int) (string, []string), of string) {
	b.Helper()
	run := func(name string, args []string) (cpu time.Duration, most int64) {
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), "VIPS_CONCURRENCY=1", "YARDTIDE_URL=http://127.0.0.1:1", "YARDTIDE_TOKEN=none")
		out, err := cmd.CombinedOutput()
		require.NoError(b, err, "%s", out)
		return cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime(),
			cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
	}
	var own, other []time.Duration
	most := int64(0)
	for n := range times {
		cpu, rss := run(ours(n))
		own, most = append(own, cpu), max(most, rss)
		cpu, _ = run(theirs(n))
		other = append(other, cpu)
	}
	slices.Sort(own)
	slices.Sort(other)
	b.ReportMetric(own[times/2].Seconds(), "ours-s")
	b.ReportMetric(other[times/2].Seconds(), of+"-s")
	b.ReportMetric(own[times/2].Seconds()/other[times/2].Seconds(), "x-"+of)
	b.ReportMetric(float64(most)/(1<<20), "MiB-at-most")
}

// BenchmarkThumbnail makes a small picture of a large one, and takes the camera's own, which
// lies in its header.
func BenchmarkThumbnail(b *testing.B) {
	yardtide, err := filepath.Abs("../bin/yardtide")
	require.NoError(b, err)
	dir := b.TempDir()
	file := large(b, dir, 4032, 3024)
	b.Run("256px", func(b *testing.B) {
		pairs(b, 5, func(n int) (string, []string) {
			return yardtide, []string{"try", file, "-long-edge", "256", "-o", fmt.Sprintf("%s/ours-%d.jpg", dir, n)}
		}, func(n int) (string, []string) {
			return "vipsthumbnail", []string{file, "--size", "256x256", "-o", fmt.Sprintf("%s/theirs-%d.jpg[Q=82]", dir, n)}
		}, "vips")
	})
	b.Run("embedded", func(b *testing.B) {
		small := filepath.Join(dir, "small.jpg")
		out, err := exec.Command("vipsthumbnail", file, "--size", "320x240", "-o", small+"[Q=70]").CombinedOutput()
		require.NoError(b, err, "%s", out)
		out, err = exec.Command("exiftool", "-q", "-overwrite_original", "-Model=Yard 3", "-ThumbnailImage<="+small,
			file).CombinedOutput()
		require.NoError(b, err, "%s", out)
		content, err := os.ReadFile(file)
		require.NoError(b, err)
		var took []time.Duration
		for range 50 {
			began := time.Now()
			_, err := face.Picture(b.Context(), bytes.NewReader(content), "image/jpeg", int64(len(content)))
			require.NoError(b, err)
			took = append(took, time.Since(began))
		}
		slices.Sort(took)
		b.ReportMetric(float64(took[25].Microseconds())/1000, "ms")
	})
}

// BenchmarkHEIC makes a JPEG of a 12 megapixel HEIC, beside heif-convert.
func BenchmarkHEIC(b *testing.B) {
	yardtide, err := filepath.Abs("../bin/yardtide")
	require.NoError(b, err)
	dir := b.TempDir()
	file := filepath.Join(dir, "a.heic")
	out, err := exec.Command("heif-enc", "-q", "60", large(b, dir, 4032, 3024), "-o", file).CombinedOutput()
	require.NoError(b, err, "%s", out)
	pairs(b, 3, func(n int) (string, []string) {
		return yardtide, []string{"try", file, "-format", "jpeg", "-quality", "90", "-o",
			fmt.Sprintf("%s/ours-%d.jpg", dir, n)}
	}, func(n int) (string, []string) {
		return "heif-convert", []string{"-q", "90", file, fmt.Sprintf("%s/theirs-%d.jpg", dir, n)}
	}, "heif-convert")
}

// BenchmarkTwoWorkers makes pictures smaller one after the other, and two at a time.
func BenchmarkTwoWorkers(b *testing.B) {
	content, err := os.ReadFile(large(b, b.TempDir(), 4032, 3024))
	require.NoError(b, err)
	const pictures = 8
	reduce := func(workers int) time.Duration {
		var all errgroup.Group
		all.SetLimit(workers)
		began := time.Now()
		for range pictures {
			all.Go(func() error {
				_, err := rendition.Reduce(b.Context(), rendition.Source{F: bytes.NewReader(content), Size: int64(len(content)),
					ContentType: "image/jpeg"}, plan.Rendition{LongEdge: 2560}, io.Discard)
				return err
			})
		}
		require.NoError(b, all.Wait())
		return time.Since(began)
	}
	var gains []float64
	for range 5 {
		gains = append(gains, reduce(1).Seconds()/reduce(2).Seconds())
	}
	slices.Sort(gains)
	b.ReportMetric(gains[2], "x-one")
}
