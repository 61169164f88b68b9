package rendition

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strconv"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/ffmpeg"
)

// stream is what ffprobe tells of one.
type stream struct {
	Kind     string `json:"codec_type"`
	Codec    string `json:"codec_name"`
	W        int    `json:"width"`
	H        int    `json:"height"`
	Rate     string `json:"avg_frame_rate"`
	Transfer string `json:"color_transfer"`
	Side     []struct {
		Rotation float64 `json:"rotation"`
	} `json:"side_data_list"`
}

const lookTime = 30 * time.Second

// lookAtClip tells the streams of a clip that are shown and heard.
func lookAtClip(ctx context.Context, src Source) (video, audio *stream, err error) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	cmd := ffmpeg.Look(ctx, src.Path, src.ContentType, "-print_format", "json",
		"-show_entries", "stream=codec_type,codec_name,width,height,avg_frame_rate,color_transfer:stream_side_data=rotation")
	var out bytes.Buffer
	cmd.Stdout = &limitedBuffer{b: &out}
	if err := cmd.Run(); err != nil {
		return nil, nil, err
	}
	var told struct{ Streams []*stream }
	if err := json.Unmarshal(out.Bytes(), &told); err != nil {
		return nil, nil, err
	}
	for _, s := range told.Streams {
		switch {
		case s.Kind == "video" && video == nil:
			video = s
		case s.Kind == "audio" && audio == nil:
			audio = s
		}
	}
	if video == nil || video.W <= 0 || video.H <= 0 {
		return nil, nil, errors.New("it shows nothing")
	}
	for _, side := range video.Side { // it is shown turned
		if int(math.Abs(side.Rotation))%180 == 90 {
			video.W, video.H = video.H, video.W
		}
	}
	return video, audio, nil
}

// limitedBuffer holds what another program says, up to a bound.
type limitedBuffer struct{ b *bytes.Buffer }

func (l *limitedBuffer) Write(p []byte) (int, error) {
	if l.b.Len()+len(p) > 1<<20 {
		return 0, errors.New("it says too much")
	}
	return l.b.Write(p)
}

// perSecond reads a rate such as 30000/1001.
func perSecond(rate string) float64 {
	of, by, _ := strings.Cut(rate, "/")
	n, err := strconv.ParseFloat(of, 64)
	d, derr := strconv.ParseFloat(by, 64)
	if err != nil || derr != nil || d == 0 {
		return 0
	}
	return n / d
}

// reduceClip makes a smaller clip with ffmpeg, at low priority.
func reduceClip(ctx context.Context, src Source, want Want, out io.Writer) (Made, error) {
	if !want.Limits(media.Video) {
		return Made{}, asShot("nothing is said of clips")
	}
	if !ffmpeg.Here() {
		return Made{}, asShot("ffmpeg is not installed on this device")
	}
	video, audio, err := lookAtClip(ctx, src)
	if ctx.Err() != nil {
		return Made{}, context.Cause(ctx)
	}
	if err != nil {
		return Made{}, asShot("it cannot be read as a clip")
	}
	if video.Transfer == "smpte2084" || video.Transfer == "arib-std-b67" {
		return Made{}, asShot("its brightness has more range than would be kept")
	}
	made := Made{From: Pixels{video.W, video.H}, ContentType: "video/mp4"}
	made.W, made.H = want.ClipSize(video.W, video.H)
	slower := want.FPS > 0 && perSecond(video.Rate) > float64(want.FPS)+0.5
	if made.Pixels == made.From && !slower {
		return Made{}, asShot("it is within the limits")
	}
	to, err := os.CreateTemp(src.Scratch, unfinished+"*.mp4")
	if err != nil {
		return Made{}, fmt.Errorf("making a smaller clip: %w", err)
	}
	defer func() { _ = errors.Join(to.Close(), os.Remove(to.Name())) }() // what stays is cleaned at the next start
	var filters []string
	if made.Pixels != made.From {
		filters = append(filters, fmt.Sprintf("scale=%d:%d:flags=bicubic", made.W, made.H))
	}
	if slower {
		filters = append(filters, "fps="+strconv.Itoa(want.FPS))
	}
	codec := []string{"-c:v", "libx264", "-preset", "medium"}
	if want.Codec == plan.H265 {
		codec = []string{"-c:v", "libx265", "-preset", "medium", "-tag:v", "hvc1", "-x265-params", "log-level=error:pools=1"}
	}
	args := append([]string{"-map", "0:v:0", "-map", "0:a?", "-map_metadata", "0", "-movflags", "+use_metadata_tags+faststart", "-vf", strings.Join(append(filters, "format=yuv420p"), ",")},
		codec...)
	args = append(args, "-crf", strconv.Itoa(crf(want.quality())), "-threads", "1")
	if audio != nil && audio.Codec == "aac" {
		args = append(args, "-c:a", "copy")
	} else {
		args = append(args, "-c:a", "aac", "-b:a", "160k")
	}
	args = append(args, "-f", "mp4", "file:"+to.Name())
	cmd := ffmpeg.Make(ctx, src.Path, src.ContentType, args...)
	var said bytes.Buffer
	cmd.Stderr = &limitedBuffer{b: &said}
	err = cmd.Run()
	if ctx.Err() != nil {
		return Made{}, context.Cause(ctx)
	}
	if err != nil {
		return Made{}, asShot("ffmpeg cannot make it smaller")
	}
	if _, err := io.Copy(out, to); err != nil {
		return Made{}, err
	}
	return made, nil
}

// crf is the constant rate factor of x264 for a quality to 100: 18, at which hardly
// anything is seen to be lost, to 39.
func crf(quality int) int { return 18 + int(math.Round(float64(100-quality)*0.3)) }
