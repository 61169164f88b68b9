package probe_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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

func read(t testing.TB, content []byte) media.Facts {
	t.Helper()
	facts, err := probe.Read(bytes.NewReader(content), int64(len(content)), modified, lisbon)
	require.NoError(t, err)
	return facts
}

func jpeg(t testing.TB) []byte {
	t.Helper()
	content, err := standin.JPEG(1, 320, taken)
	require.NoError(t, err)
	return content
}

func TestAJPEGTellsItsTimeAndZone(t *testing.T) {
	facts := read(t, jpeg(t))
	assert.Equal(t, "image/jpeg", facts.ContentType)
	assert.Equal(t, media.Photo, facts.Kind)
	assert.Equal(t, media.FromHeader, facts.TakenFrom)
	assert.Equal(t, "2026-03-04T23:59:58-01:00", facts.TakenAt.Format(time.RFC3339))
}

func TestATimeWithoutAZoneSaysSo(t *testing.T) {
	content := bytes.Replace(jpeg(t), []byte("-01:00\x00"), []byte("  :  \x00\x00"), 1)
	facts := read(t, content)
	assert.Equal(t, media.FromHeaderNZ, facts.TakenFrom)
	assert.Equal(t, "2026-03-04T23:59:58+01:00", facts.TakenAt.Format(time.RFC3339), "in the device's zone")
}

func TestNoTimeInTheHeader(t *testing.T) {
	png, err := standin.PNG(2, 64)
	require.NoError(t, err)
	zeros := bytes.ReplaceAll(jpeg(t), []byte("2026:03:04 23:59:58"), []byte("0000:00:00 00:00:00"))
	for name, content := range map[string][]byte{"a PNG": png, "a clock that was never set": zeros} {
		facts := read(t, content)
		assert.Equal(t, media.FromFile, facts.TakenFrom, name)
		assert.True(t, modified.Equal(facts.TakenAt), name)
	}
}

func TestAClipTellsItsTime(t *testing.T) {
	file := filepath.Join(t.TempDir(), "clip.mp4")
	require.NoError(t, standin.Clip(file, 3, 160, 12, taken))
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	facts := read(t, content)
	assert.Equal(t, media.Video, facts.Kind)
	assert.Equal(t, media.FromHeader, facts.TakenFrom)
	assert.True(t, taken.Equal(facts.TakenAt), "%s", facts.TakenAt)
	assert.InDelta(t, 1, facts.Seconds, 1)
}

// tiff is a TIFF of one folder (TIFF 6.0, section 2): its tags as numbers, or as text.
func tiff(tags map[uint16]any) []byte {
	var entries, texts []byte
	at := 8 + 2 + 12*len(tags) + 4
	for _, tag := range slices.Sorted(maps.Keys(tags)) {
		entries = binary.LittleEndian.AppendUint16(entries, tag)
		switch v := tags[tag].(type) {
		case string:
			entries = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint16(entries, 2), uint32(len(v)))
			entries = binary.LittleEndian.AppendUint32(entries, uint32(at+len(texts)))
			texts = append(texts, v...)
		case int:
			entries = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint16(entries, 4), 1)
			entries = binary.LittleEndian.AppendUint32(entries, uint32(v))
		}
	}
	head := append([]byte("II*\x00\x08\x00\x00\x00"), byte(len(tags)), 0)
	return append(append(append(append(head, entries...), 0, 0, 0, 0), texts...), make([]byte, 64)...)
}

func TestRawFilesAndDrawingsAreToldFromPhotos(t *testing.T) {
	const subfile, made, colours, dng = 0xfe, 0x10f, 0x106, 0xc612
	for name, one := range map[string]struct {
		content []byte
		kind    media.Kind
	}{
		"a scan":                        {tiff(map[uint16]any{colours: 2, made: "Scanner\x00\x00"}), media.Photo},
		"a DNG":                         {tiff(map[uint16]any{colours: 2, dng: 0x401}), media.Raw},
		"a raw whose folder is preview": {tiff(map[uint16]any{subfile: 1, colours: 2, made: "Camera\x00\x00"}), media.Raw},
		"a raw with the mosaic first":   {tiff(map[uint16]any{colours: 32803, made: "Camera\x00\x00"}), media.Raw},
		"a thumbnail of nobody's":       {tiff(map[uint16]any{subfile: 1, colours: 2}), media.Photo},
		"a drawing":                     {drawing(t), media.Graphic},
		"a camera's PNG":                {withExif(t, drawing(t), tiff(map[uint16]any{made: "Camera\x00\x00"})), media.Photo},
		"a PNG a program dated": {withExif(t, drawing(t), tiff(map[uint16]any{0x132: "2026:03:04 23:59:58\x00"})),
			media.Graphic},
	} {
		assert.Equal(t, one.kind, read(t, one.content).Kind, name)
	}
}

func drawing(t testing.TB) []byte {
	t.Helper()
	content, err := standin.PNG(2, 64)
	require.NoError(t, err)
	return content
}

// withExif puts an eXIf chunk (PNG, third edition, 11.3.4.5) behind a PNG's header.
func withExif(t testing.TB, png, exif []byte) []byte {
	t.Helper()
	const header = 8 + 4 + 4 + 13 + 4
	chunk := append([]byte("eXIf"), exif...)
	whole := binary.BigEndian.AppendUint32(bytes.Clone(png[:header]), uint32(len(exif)))
	whole = binary.BigEndian.AppendUint32(append(whole, chunk...), crc32.ChecksumIEEE(chunk))
	return append(whole, png[header:]...)
}

func TestAMovieKeyWithAZoneIsPreferred(t *testing.T) {
	dir := t.TempDir()
	plain, keyed := filepath.Join(dir, "plain.mov"), filepath.Join(dir, "keyed.mov")
	require.NoError(t, standin.Clip(plain, 3, 160, 12, taken.Add(time.Hour)))
	out, err := exec.Command("ffmpeg", "-nostdin", "-v", "error", "-i", plain, "-c", "copy", "-movflags",
		"use_metadata_tags", "-metadata",
		"com.apple.quicktime.creationdate=2026-03-04T23:59:58-0100", keyed).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(keyed)
	require.NoError(t, err)
	facts := read(t, content)
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
		facts := read(t, content)
		assert.Equal(t, want, facts.ContentType)
	}
	for text, kind := range map[string]media.Kind{"notes about larch": media.Document,
		"<svg xmlns='http://www.w3.org/2000/svg'/>": media.Document, "%PDF-1.7": media.Document, "PK\x03\x04": media.Other,
		"RIFF\x24\x00\x00\x00WAVEfmt \x10\x00\x00\x00": media.Audio} {
		assert.Equal(t, kind, read(t, []byte(text)).Kind, text)
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
		facts, err := probe.Read(bytes.NewReader(content), int64(len(content)), modified, lisbon)
		require.NoError(t, err)
		require.False(t, facts.TakenAt.IsZero())
		require.NotEmpty(t, facts.TakenFrom)
		require.NotEmpty(t, facts.Kind)
	})
}
