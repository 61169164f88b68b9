package probe_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/engine/probe"
	"yardtide/standin"
)

var (
	azores   = time.FixedZone("", -3600)
	taken    = time.Date(2026, 3, 4, 23, 59, 58, 0, azores)
	modified = time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	lisbon   = time.FixedZone("device", 3600)
)

func read(t testing.TB, content []byte) (media.Facts, bool) {
	t.Helper()
	facts, ok, err := probe.Read(bytes.NewReader(content), int64(len(content)), modified, lisbon)
	require.NoError(t, err)
	return facts, ok
}

func jpeg(t testing.TB) []byte {
	t.Helper()
	content, err := standin.JPEG(1, 320, taken)
	require.NoError(t, err)
	return content
}

func TestAJPEGTellsItsTimeAndZone(t *testing.T) {
	facts, ok := read(t, jpeg(t))
	require.True(t, ok)
	assert.Equal(t, "image/jpeg", facts.ContentType)
	assert.Equal(t, media.Photo, facts.Kind)
	assert.Equal(t, media.FromHeader, facts.TakenFrom)
	assert.Equal(t, "2026-03-04T23:59:58-01:00", facts.TakenAt.Format(time.RFC3339))
}

func TestATimeWithoutAZoneSaysSo(t *testing.T) {
	content := bytes.Replace(jpeg(t), []byte("-01:00\x00"), []byte("  :  \x00\x00"), 1)
	facts, _ := read(t, content)
	assert.Equal(t, media.FromHeaderNZ, facts.TakenFrom)
	assert.Equal(t, "2026-03-04T23:59:58+01:00", facts.TakenAt.Format(time.RFC3339), "in the device's zone")
}

func TestNoTimeInTheHeader(t *testing.T) {
	png, err := standin.PNG(2, 64)
	require.NoError(t, err)
	zeros := bytes.ReplaceAll(jpeg(t), []byte("2026:03:04 23:59:58"), []byte("0000:00:00 00:00:00"))
	for name, content := range map[string][]byte{"a PNG": png, "a clock that was never set": zeros} {
		facts, ok := read(t, content)
		require.True(t, ok, name)
		assert.Equal(t, media.FromFile, facts.TakenFrom, name)
		assert.True(t, modified.Equal(facts.TakenAt), name)
	}
}

func TestAClipTellsItsTime(t *testing.T) {
	file := filepath.Join(t.TempDir(), "clip.mp4")
	require.NoError(t, standin.Clip(file, 3, 160, 12, taken))
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	facts, ok := read(t, content)
	require.True(t, ok)
	assert.Equal(t, media.Video, facts.Kind)
	assert.Equal(t, media.FromHeader, facts.TakenFrom)
	assert.True(t, taken.Equal(facts.TakenAt), "%s", facts.TakenAt)
}

func TestAMovieKeyWithAZoneIsPreferred(t *testing.T) {
	dir := t.TempDir()
	plain, keyed := filepath.Join(dir, "plain.mov"), filepath.Join(dir, "keyed.mov")
	require.NoError(t, standin.Clip(plain, 3, 160, 12, taken.Add(time.Hour)))
	out, err := exec.Command("ffmpeg", "-nostdin", "-v", "error", "-i", plain, "-c", "copy", "-movflags", "use_metadata_tags", "-metadata",
		"com.apple.quicktime.creationdate=2026-03-04T23:59:58-0100", keyed).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(keyed)
	require.NoError(t, err)
	facts, ok := read(t, content)
	require.True(t, ok)
	assert.Equal(t, "2026-03-04T23:59:58-01:00", facts.TakenAt.Format(time.RFC3339))
}

func TestTheTypeIsReadFromTheContent(t *testing.T) {
	box := func(brand string) []byte {
		b := binary.BigEndian.AppendUint32(nil, 24)
		return append(append(b, "ftyp"+brand+"\x00\x00\x00\x00"+brand+"mif1"...), make([]byte, 64)...)
	}
	packets := make([]byte, 188*5)
	for i := 0; i < len(packets); i += 188 {
		packets[i] = 0x47
	}
	for want, content := range map[string][]byte{
		"image/x-canon-cr3":     box("crx "),
		"image/heic":            box("heic"),
		"video/mp2t":            packets,
		"image/x-fuji-raf":      []byte("FUJIFILMCCD-RAW 0201FF129502"),
		"image/x-olympus-orf":   append([]byte("IIRO\x08\x00\x00\x00"), make([]byte, 64)...),
		"image/x-panasonic-rw2": append([]byte("IIU\x00\x08\x00\x00\x00"), make([]byte, 64)...),
	} {
		facts, ok := read(t, content)
		assert.True(t, ok, want)
		assert.Equal(t, want, facts.ContentType)
	}
	for _, text := range []string{"notes about larch", "<svg xmlns='http://www.w3.org/2000/svg'/>", "%PDF-1.7", "PK\x03\x04"} {
		_, ok := read(t, []byte(text))
		assert.False(t, ok, text)
	}
}

func TestDamagedHeadersAreNoErrors(t *testing.T) {
	file := filepath.Join(t.TempDir(), "clip.mp4")
	require.NoError(t, standin.Clip(file, 3, 160, 6, taken))
	clip, err := os.ReadFile(file)
	require.NoError(t, err)
	png, err := standin.PNG(2, 64)
	require.NoError(t, err)
	whole := [][]byte{jpeg(t), clip, png}
	rapid.Check(t, func(t *rapid.T) {
		content := bytes.Clone(rapid.SampledFrom(whole).Draw(t, "file"))
		content = content[:rapid.IntRange(1, len(content)).Draw(t, "cut")]
		for range rapid.IntRange(0, 8).Draw(t, "flips") {
			content[rapid.IntRange(0, min(len(content), 1500)-1).Draw(t, "at")] = rapid.Byte().Draw(t, "to")
		}
		facts, ok, err := probe.Read(bytes.NewReader(content), int64(len(content)), modified, lisbon)
		require.NoError(t, err)
		if ok {
			require.False(t, facts.TakenAt.IsZero())
			require.NotEmpty(t, facts.TakenFrom)
		}
	})
}
