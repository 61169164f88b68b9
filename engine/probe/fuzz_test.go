package probe_test

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"yardtide/engine/probe"
	"yardtide/standin"
)

// counted is a file that counts what is read of it.
type counted struct {
	*bytes.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *counted) ReadAt(p []byte, at int64) (int, error) {
	n, err := c.Reader.ReadAt(p, at)
	c.n += int64(n)
	return n, err
}

// mostRead bounds what a header makes the probe read, however often it points at
// the same bytes.
const mostRead = 64 << 20

func FuzzRead(f *testing.F) {
	f.Add(jpeg(f))
	if file := f.TempDir() + "/clip.mp4"; standin.Clip(file, 1, 160, 2, taken) == nil {
		clip, err := os.ReadFile(file)
		require.NoError(f, err)
		f.Add(clip)
	}
	for _, head := range []string{"\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR", "II*\x00\x08\x00\x00\x00\x01\x00",
		"MM\x00*\x00\x00\x00\x08", "\x00\x00\x00\x18ftypheic\x00\x00\x00\x00mif1heic", "\x00\x00\x00\x18ftypcrx ",
		"RIFF\x10\x00\x00\x00WEBPVP8X", "GIF89a", "\xff\xd8\xff\xe1\xff\xffExif\x00\x00II*\x00\x08\x00\x00\x00",
		"FUJIFILMCCD-RAW"} {
		f.Add([]byte(head))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		file := &counted{Reader: bytes.NewReader(content)}
		facts, err := probe.Read(file, int64(len(content)), modified, lisbon)
		require.NoError(t, err, "what can be read is never an error")
		require.Less(t, file.n, int64(mostRead))
		require.False(t, facts.TakenAt.IsZero())
		require.NotEmpty(t, facts.TakenFrom)
	})
}
