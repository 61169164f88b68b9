package probe_test

import (
	"bytes"
	"encoding/binary"
	"image"
	picture "image/jpeg"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/probe"
)

// still is a JPEG with maker notes that hold an identifier.
func still(t *testing.T, identifier string, long uint32) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, picture.Encode(&b, image.NewGray(image.Rect(0, 0, 16, 16)), nil))
	notes := []byte("Apple iOS\x00\x00\x01MM\x00\x01")
	notes = binary.BigEndian.AppendUint16(notes, 0x0011)
	notes = binary.BigEndian.AppendUint16(notes, 2)
	notes = binary.BigEndian.AppendUint32(notes, long)
	notes = binary.BigEndian.AppendUint32(notes, uint32(len(notes)+4))
	notes = append(append(notes, identifier...), 0)
	whole := append([]byte{0xff, 0xd8, 0xff, 0xfe}, binary.BigEndian.AppendUint16(nil, uint16(len(notes)+2))...)
	return append(append(whole, notes...), b.Bytes()[2:]...)
}

func pairOf(t *testing.T, content []byte) string {
	t.Helper()
	facts, err := probe.Read(bytes.NewReader(content), int64(len(content)), time.Now(), time.UTC)
	require.NoError(t, err)
	return facts.Pair
}

func TestAStillAndItsClipHaveOneIdentifier(t *testing.T) {
	const id = "3F2504E0-4F89-11D3-9A0C-0305E82C3301"
	assert.Equal(t, id, pairOf(t, still(t, id, uint32(len(id)+1))))
	assert.Empty(t, pairOf(t, still(t, "", 1)))
	assert.Empty(t, pairOf(t, still(t, id, 1<<31)), "longer than it can be")
	whole := still(t, id, uint32(len(id)+1))
	assert.Empty(t, pairOf(t, whole[:60]), "cut short")

	file := t.TempDir() + "/a.mov"
	out, err := exec.CommandContext(t.Context(), "ffmpeg", "-v", "error", "-f", "lavfi", "-i", "color=s=64x48:r=10:d=2",
		"-c:v", "libx264", "-movflags", "+use_metadata_tags",
		"-metadata", "com.apple.quicktime.content.identifier="+
			id, "-metadata", "com.apple.quicktime.creationdate=2026-05-04T10:11:12+0200", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, id, pairOf(t, content))
	facts, err := probe.Read(bytes.NewReader(content), int64(len(content)), time.Now(), time.UTC)
	require.NoError(t, err)
	assert.Equal(t, "2026-05-04T10:11:12+02:00", facts.TakenAt.Format(time.RFC3339), "the date is read as before")
	assert.EqualValues(t, 2, facts.Seconds)
}
