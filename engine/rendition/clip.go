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
	"slices"
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

// clip is what ffprobe tells of one: the streams that are shown and heard.
type clip struct {
	video, audio *stream
	Format       struct {
		BitRate  string            `json:"bit_rate"`
		Duration string            `json:"duration"`
		Tags     map[string]string `json:"tags"`
	} `json:"format"`
}

// rate is how many bits a second it takes, 0 where that is not known.
func (c clip) rate() float64 {
	n, err := strconv.ParseFloat(c.Format.BitRate, 64)
	if err != nil {
		return 0
	}
	return n
}

// The names of what a clip tells that is kept where not all is: when it was taken; and under "no
// place" with what, who made it, and its title.
var (
	clipTimes = []string{"creation_time", "com.apple.quicktime.creationdate", "date"}
	clipKept  = []string{"make", "model", "com.apple.quicktime.make", "com.apple.quicktime.model",
		"com.apple.quicktime.software", "title", "artist", "copyright", "comment", "description"}
)

// metadata has ffmpeg write what shall be told: all, or what is on a list of what is kept.
func (c clip) metadata(want plan.Facts) []string {
	if want == "" {
		return []string{"-map_metadata", "0"}
	}
	args := []string{"-map_metadata", "-1", "-map_metadata:s:v", "-1", "-map_metadata:s:a", "-1", "-map_chapters", "-1"}
	kept := clipTimes
	if want == plan.NoPlace {
		kept = slices.Concat(clipTimes, clipKept)
	}
	for _, name := range kept {
		if value := c.Format.Tags[name]; value != "" && len(value) <= mostKeptValue {
			args = append(args, "-metadata", name+"="+value)
		}
	}
	return args
}

// samplesOnly has ffmpeg leave out what programs write between the samples of a clip (ITU-T
// H.264 and H.265, annex D, supplemental enhancement information): some cameras write the place
// there.
func (c clip) samplesOnly() []string {
	switch c.video.Codec {
	case "h264":
		return []string{"-bsf:v", "filter_units=remove_types=6"}
	case "hevc":
		return []string{"-bsf:v", "filter_units=remove_types=39|40"}
	}
	return nil
}

// lookAtClip tells what a clip is.
func lookAtClip(ctx context.Context, src Source) (c clip, err error) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	cmd := ffmpeg.Look(ctx, src.Path, src.ContentType, "-print_format", "json",
		"-show_entries", "format=bit_rate,duration:format_tags:stream=codec_type,codec_name,width,height,avg_frame_rate,color_transfer:stream_side_data=rotation")
	var out bytes.Buffer
	cmd.Stdout = &limitedBuffer{b: &out}
	if err := ffmpeg.Run(cmd); err != nil {
		return c, err
	}
	var told struct {
		Streams []*stream
		clip
	}
	if err := json.Unmarshal(out.Bytes(), &told); err != nil {
		return c, err
	}
	c = told.clip
	for _, s := range told.Streams {
		switch {
		case s.Kind == "video" && c.video == nil:
			c.video = s
		case s.Kind == "audio" && c.audio == nil:
			c.audio = s
		}
	}
	if c.video == nil || c.video.W <= 0 || c.video.H <= 0 {
		return c, errors.New("it shows nothing")
	}
	for _, side := range c.video.Side { // it is shown turned
		if int(math.Abs(side.Rotation))%180 == 90 {
			c.video.W, c.video.H = c.video.H, c.video.W
		}
	}
	return c, nil
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
func reduceClip(ctx context.Context, src Source, want Want, out *limited) (Made, error) {
	if !want.Limits(media.Video) {
		return Made{}, asShot("nothing is said of clips")
	}
	if !ffmpeg.Here() {
		return Made{}, asShot("ffmpeg is not installed on this device")
	}
	told, err := lookAtClip(ctx, src)
	video := told.video
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
	heavy := want.Bitrate > 0 && told.rate() > float64(want.Bitrate)*1.1
	as := made.Pixels == made.From && !slower && !heavy // its pictures stay
	if as && want.Facts == "" {
		return Made{}, errFits
	}
	to, err := os.CreateTemp(src.Scratch, unfinished+"*.mp4")
	if err != nil {
		return Made{}, fmt.Errorf("making a smaller clip: %w", err)
	}
	defer func() { _ = errors.Join(to.Close(), os.Remove(to.Name())) }() // what stays is cleaned at the next start
	seconds, _ := strconv.ParseFloat(told.Format.Duration, 64)           // 0: nobody knows how far it is
	args := told.arguments(want, made, slower, as)
	if src.Piece > 0 && seconds > src.Piece { // not its first, which often shows less than the rest
		made.Piece = src.Piece / seconds
		args = append(args, "-ss", decimal(min((seconds-src.Piece)/2, mostSought)), "-t", decimal(src.Piece))
	}
	args = append(args, "-progress", "pipe:1", "-f", "mp4", "file:"+to.Name())
	working, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	stuck := time.AfterFunc(stuckTime, func() { stop(errStuck) })
	defer stuck.Stop()
	cmd := ffmpeg.Make(working, src.Path, src.ContentType, args...)
	cmd.Stdout = &progress{tell: src.Progress, of: seconds, moved: func() { stuck.Reset(stuckTime) }}
	var said bytes.Buffer
	cmd.Stderr = &limitedBuffer{b: &said}
	err = ffmpeg.Run(cmd)
	if ctx.Err() != nil {
		return Made{}, context.Cause(ctx)
	}
	if errors.Is(context.Cause(working), errStuck) {
		return Made{}, asShot("ffmpeg did not get on with it for %s", stuckTime)
	}
	if err != nil {
		return Made{}, asShot("ffmpeg cannot make it smaller")
	}
	info, err := to.Stat()
	if err == nil {
		err = out.room(int(info.Size()))
	}
	if err != nil {
		return Made{}, err
	}
	if _, err := io.Copy(out, to); err != nil {
		return Made{}, err
	}
	return made, nil
}

// mostSought is how many seconds of a clip are read before the piece of which a sample is made.
const mostSought = 10

// decimal writes seconds for ffmpeg.
func decimal(seconds float64) string { return strconv.FormatFloat(seconds, 'f', 3, 64) }

// arguments says to ffmpeg how to make a smaller clip. slower: at fewer pictures a second; as: the pictures stay as
// they are.
func (c clip) arguments(want Want, made Made, slower, as bool) []string {
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
	args := append([]string{"-map", "0:v:0", "-map", "0:a?"}, c.metadata(want.Facts)...)
	args = append(args, "-movflags", "+use_metadata_tags+faststart")
	if as {
		args = append(args, "-c:v", "copy")
		if want.Facts != "" {
			args = append(args, c.samplesOnly()...)
		}
	} else {
		args = append(append(args, "-vf", strings.Join(append(filters, "format=yuv420p"), ",")), codec...)
		args = append(args, "-crf", strconv.Itoa(crf(want.quality())), "-threads", "1")
	}
	if want.Bitrate > 0 && !as { // the quality, and no more than that
		rate := strconv.FormatInt(int64(want.Bitrate), 10)
		args = append(args, "-maxrate", rate, "-bufsize", rate)
	}
	if c.audio != nil && c.audio.Codec == "aac" {
		args = append(args, "-c:a", "copy")
	} else {
		args = append(args, "-c:a", "aac", "-b:a", "160k")
	}
	return args
}

// stuckTime is how long ffmpeg may make nothing of a clip before it is ended.
var stuckTime = 3 * time.Minute

// errStuck ends an ffmpeg that makes nothing.
var errStuck = errors.New("it makes nothing")

// progress reads how far ffmpeg is: lines of keys and values, the time that is made in
// microseconds among them.
type progress struct {
	tell  func(share float64)
	of    float64 // seconds
	moved func()  // something was made
	last  float64 // microseconds that were made
	line  []byte
}

func (p *progress) Write(b []byte) (int, error) {
	for _, c := range b {
		if c != '\n' {
			if len(p.line) < 200 {
				p.line = append(p.line, c)
			}
			continue
		}
		if at, is := strings.CutPrefix(string(p.line), "out_time_us="); is {
			us, err := strconv.ParseFloat(at, 64)
			if err == nil && us > p.last {
				p.last = us
				p.moved()
			}
			if err == nil && us > 0 && p.tell != nil && p.of > 0 {
				p.tell(min(1, us/1e6/p.of))
			}
		}
		p.line = p.line[:0]
	}
	return len(b), nil
}

// crf is the constant rate factor of x264 for a quality to 100: 18, at which hardly
// anything is seen to be lost, to 39.
func crf(quality int) int { return 18 + int(math.Round(float64(100-quality)*0.3)) }
