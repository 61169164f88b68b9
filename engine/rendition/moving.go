package rendition

import (
	"context"
	"errors"
	"fmt"
	"image"
	"image/draw"
	"image/gif"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"image/color/palette"

	"yardtide/core/plan"
	"yardtide/engine/ffmpeg"
)

// Of a moving picture.
const (
	movingEdge   = 1280
	movingGIF    = 480 // of an animated picture, which is far larger for what it shows
	movingRate   = 8   // pictures a second
	movingFrames = 120
)

// Moving is what a moving picture is made of and says.
type Moving struct {
	Frames []func(ctx context.Context) (Source, func(), error)
	At     time.Time // when its first shot was taken, in the zone of that place
	Says   string    // what it was made of
}

// Make makes a moving picture in a folder, of a name without its ending: a clip by ffmpeg,
// or an animated picture without. It returns the file.
func (m Moving) Make(ctx context.Context, scratch, stem string) (file string, err error) {
	dir, err := os.MkdirTemp(scratch, unfinished)
	if err != nil {
		return "", fmt.Errorf("making a moving picture: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	edge := movingEdge
	if !ffmpeg.Here() {
		edge = movingGIF
	}
	var frames []image.Image
	n := 0
	for _, open := range m.Frames[:min(len(m.Frames), movingFrames)] {
		img, err := frame(ctx, open, edge)
		var as AsShot
		if errors.As(err, &as) {
			continue // it cannot be seen: the others can
		}
		if err != nil {
			return "", err
		}
		if n++; edge == movingGIF {
			frames = append(frames, img)
			continue
		}
		if err := writeFrame(filepath.Join(dir, fmt.Sprintf("%03d.jpg", n)), img); err != nil {
			return "", err
		}
	}
	if n < 2 {
		return "", asShot("too few of its shots can be read")
	}
	if edge == movingGIF {
		return stem + ".gif", m.animate(dir, stem+".gif", frames)
	}
	out := filepath.Join(dir, "moving.mp4")
	// Even edges, as codecs want them.
	args := []string{"-map", "0:v:0", "-vf", "scale=trunc(iw/2)*2:trunc(ih/2)*2,format=yuv420p", "-c:v", "libx264",
		"-preset", "medium", "-crf", "20", "-threads", "1",
		"-movflags", "+use_metadata_tags+faststart", "-metadata", "creation_time=" +
			m.At.UTC().Format("2006-01-02T15:04:05Z"),
		"-metadata", "com.apple.quicktime.creationdate=" + m.At.Format("2006-01-02T15:04:05-0700"), "-metadata", "comment=" +
			m.Says, "-f", "mp4", "file:" + out}
	cmd := ffmpeg.Frames(ctx, dir+"/%03d.jpg", strconv.Itoa(movingRate), args...)
	if err := ffmpeg.Run(cmd); err != nil {
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
		return "", fmt.Errorf("making a clip of shots in a row: %w", err)
	}
	if err := os.Rename(out, stem+".mp4"); err != nil {
		return "", fmt.Errorf("keeping a clip of shots in a row: %w", err)
	}
	return stem + ".mp4", nil
}

// frame is one shot, reduced and upright.
func frame(ctx context.Context, open func(context.Context) (Source, func(), error), edge int) (image.Image, error) {
	src, shut, err := open(ctx)
	if err != nil {
		return nil, err
	}
	defer shut()
	img, err := seen(ctx, src)
	if err != nil {
		return nil, err
	}
	b := img.Bounds()
	w, h := plan.Rendition{LongEdge: edge}.Size(b.Dx(), b.Dy())
	p, err := resize(ctx, planeOf(img), w, h, float64(w), float64(h))
	if err != nil {
		return nil, err
	}
	return &image.RGBA{Pix: p.pix, Stride: p.stride, Rect: image.Rect(0, 0, p.w, p.h)}, nil
}

func writeFrame(file string, img image.Image) error {
	b, err := crop(img, img.Bounds())
	if err != nil {
		return err
	}
	if err := os.WriteFile(file, b, 0o600); err != nil {
		return fmt.Errorf("writing a frame: %w", err)
	}
	return nil
}

// animate writes an animated picture (GIF89a), with what it was made of in it.
func (m Moving) animate(dir, file string, frames []image.Image) error {
	var g gif.GIF
	for _, img := range frames {
		p := image.NewPaletted(image.Rect(0, 0, frames[0].Bounds().Dx(), frames[0].Bounds().Dy()), palette.Plan9)
		draw.FloydSteinberg.Draw(p, p.Rect, img, img.Bounds().Min)
		g.Image, g.Delay = append(g.Image, p), append(g.Delay, 100/movingRate)
	}
	out, err := os.Create(filepath.Join(dir, "moving.gif"))
	if err != nil {
		return fmt.Errorf("making an animated picture: %w", err)
	}
	err = gif.EncodeAll(out, &g)
	if err = errors.Join(err, out.Close()); err != nil {
		return fmt.Errorf("making an animated picture: %w", err)
	}
	if err := os.Chtimes(out.Name(), m.At, m.At); err != nil { // it has no header that tells when
		return fmt.Errorf("dating an animated picture: %w", err)
	}
	if err := os.Rename(out.Name(), file); err != nil {
		return fmt.Errorf("keeping an animated picture: %w", err)
	}
	return nil
}
