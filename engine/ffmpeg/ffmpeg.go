// Package ffmpeg knows how the programs of that name are called here: behind other
// programs, and so that a file can name no other for them to read.
package ffmpeg

import (
	"context"
	"os/exec"
	"time"

	"yardtide/engine/work"
)

// demuxers are how it is told to read clips: by what they are, and not by what it guesses
// of them, as some formats name further files to read.
var demuxers = map[string]string{
	"video/mp4": "mov", "video/quicktime": "mov", "video/3gpp": "mov", "video/x-m4v": "mov",
	"video/x-matroska": "matroska", "video/webm": "matroska", "video/x-msvideo": "avi", "video/mpeg": "mpeg",
	"video/mp2t": "mpegts",
}

// Reads tells whether clips of a content type are read.
func Reads(contentType string) bool { return demuxers[contentType] != "" }

// Here tells whether it is installed.
func Here() bool {
	_, err := exec.LookPath("ffmpeg")
	_, perr := exec.LookPath("ffprobe")
	return err == nil && perr == nil
}

func input(path, contentType string) []string {
	return []string{"-v", "error", "-protocol_whitelist", "file", "-f", demuxers[contentType], "-i", "file:" + path}
}

// Make is what makes something of a clip; args say what, and where it goes. It ends with the
// context.
func Make(ctx context.Context, path, contentType string, args ...string) *exec.Cmd {
	return command(ctx, "ffmpeg", append(append([]string{"-nostdin", "-y"}, input(path, contentType)...), args...))
}

// Frames is what makes a clip of pictures whose names are of a pattern, so many a second; args
// say what, and where it goes.
func Frames(ctx context.Context, pattern, rate string, args ...string) *exec.Cmd {
	return command(ctx, "ffmpeg", append([]string{"-nostdin", "-y", "-v", "error", "-protocol_whitelist", "file", "-f", "image2",
		"-framerate", rate, "-i", "file:" + pattern}, args...))
}

// Look is what tells of a clip; args say what.
func Look(ctx context.Context, path, contentType string, args ...string) *exec.Cmd {
	return command(ctx, "ffprobe", append(input(path, contentType), args...))
}

func command(ctx context.Context, name string, args []string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.WaitDelay = time.Second
	endWithUs(cmd)
	return cmd
}

// Run runs one of these programs to its end, behind other programs. It ends with this process, also where that is
// killed, as far as the system is able to see to it.
func Run(cmd *exec.Cmd) (err error) {
	// Linux ends a program with the thread that began it (prctl(2), PR_SET_PDEATHSIG), and gives it that thread's
	// priority: the thread is kept until the program has ended.
	work.Quiet(func() { err = cmd.Run() })
	return err
}
