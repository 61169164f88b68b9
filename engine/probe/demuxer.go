package probe

// demuxers are how ffmpeg is told to read clips: by what they are, and not by what
// it guesses of them, as some formats name further files to read.
var demuxers = map[string]string{
	"video/mp4": "mov", "video/quicktime": "mov", "video/3gpp": "mov", "video/x-m4v": "mov",
	"video/x-matroska": "matroska", "video/webm": "matroska", "video/x-msvideo": "avi", "video/mpeg": "mpeg", "video/mp2t": "mpegts",
}

// Demuxer is how ffmpeg is to read clips of a content type, "" for those that are not read.
func Demuxer(contentType string) string { return demuxers[contentType] }
