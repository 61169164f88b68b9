package face_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/gif"
	"image/jpeg"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/engine/face"
)

var (
	red  = color.RGBA{200, 20, 20, 255}
	blue = color.RGBA{20, 20, 200, 255}
	grey = color.RGBA{120, 120, 120, 255}
)

// marked is a grey picture whose upper left quarter is of a colour.
func marked(w, h int, c color.Color) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.Draw(img, img.Bounds(), image.NewUniform(grey), image.Point{}, draw.Src)
	draw.Draw(img, image.Rect(0, 0, w/2, h/2), image.NewUniform(c), image.Point{}, draw.Src)
	return img
}

func asJPEG(t *testing.T, img image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, nil))
	return b.Bytes()
}

// photo is a JPEG with an EXIF header (EXIF 2.32, 4.5): its orientation, and a
// preview where there is one.
func photo(t *testing.T, img image.Image, orientation uint16, preview []byte) []byte {
	t.Helper()
	var tiff bytes.Buffer
	put := func(v any) { require.NoError(t, binary.Write(&tiff, binary.LittleEndian, v)) }
	entry := func(tag, kind uint16, n, v uint32) { put(tag); put(kind); put(n); put(v) }
	tiff.WriteString("II*\x00")
	put(uint32(8))
	put(uint16(1))
	entry(0x0112, 3, 1, uint32(orientation))
	put(uint32(26)) // IFD1
	put(uint16(2))
	entry(0x0201, 4, 1, 56)
	entry(0x0202, 4, 1, uint32(len(preview)))
	put(uint32(0))
	tiff.Write(preview)
	var b bytes.Buffer
	b.WriteString("\xff\xd8\xff\xe1")
	require.NoError(t, binary.Write(&b, binary.BigEndian, uint16(2+6+tiff.Len())))
	b.WriteString("Exif\x00\x00")
	b.Write(tiff.Bytes())
	b.Write(asJPEG(t, img)[2:])
	return b.Bytes()
}

func made(t *testing.T, content []byte, contentType string) image.Image {
	t.Helper()
	small, err := face.Picture(t.Context(), bytes.NewReader(content), contentType, int64(len(content)))
	require.NoError(t, err)
	img, err := jpeg.Decode(bytes.NewReader(small))
	require.NoError(t, err)
	return img
}

// where tells in which quarter of a picture a colour is.
func where(img image.Image, c color.RGBA) string {
	b := img.Bounds()
	for _, q := range []struct {
		name string
		x, y int
	}{{"upper left", 1, 1}, {"upper right", 3, 1}, {"lower left", 1, 3}, {"lower right", 3, 3}} {
		r, _, bl, _ := img.At(b.Min.X+b.Dx()*q.x/4, b.Min.Y+b.Dy()*q.y/4).RGBA()
		if c == red && r>>8 > 150 || c == blue && bl>>8 > 150 {
			return q.name
		}
	}
	return "nowhere"
}

func TestAFaceStandsUpright(t *testing.T) {
	for orientation, want := range map[uint16]string{1: "upper left", 2: "upper right", 3: "lower right", 4: "lower left",
		5: "upper left", 6: "upper right", 7: "lower right", 8: "lower left", 0: "upper left", 9: "upper left"} {
		img := made(t, photo(t, marked(480, 320, red), orientation, nil), "image/jpeg")
		assert.Equal(t, want, where(img, red), "orientation %d", orientation)
		size := image.Pt(320, 213)
		if orientation >= 5 && orientation <= 8 {
			size = image.Pt(213, 320)
		}
		assert.Equal(t, size, img.Bounds().Size(), "orientation %d", orientation)
	}
}

func TestTheCamerasPreviewIsTakenWhereItIsGood(t *testing.T) {
	for name, c := range map[string]struct {
		preview []byte
		taken   bool
	}{
		"good":          {asJPEG(t, marked(240, 160, blue)), true},
		"with bars":     {asJPEG(t, marked(160, 120, blue)), false},
		"very small":    {asJPEG(t, marked(120, 80, blue)), false},
		"very large":    {asJPEG(t, marked(1500, 1000, blue)), false},
		"none":          {nil, false},
		"cut":           {asJPEG(t, marked(240, 160, blue))[:300], false},
		"not a picture": {[]byte("larch larch larch larch larch larch larch"), false},
	} {
		img := made(t, photo(t, marked(480, 320, red), 3, c.preview), "image/jpeg")
		want := red
		if c.taken {
			want = blue
		}
		assert.Equal(t, "lower right", where(img, want), name)
	}
}

func TestEveryFormatHasAFaceOrNone(t *testing.T) {
	var asPNG, asGIF bytes.Buffer
	require.NoError(t, png.Encode(&asPNG, marked(50, 40, red)))
	require.NoError(t, gif.Encode(&asGIF, marked(50, 40, red), nil))
	assert.Equal(t, image.Pt(50, 40), made(t, asPNG.Bytes(), "image/png").Bounds().Size(),
		"a small picture stays as it is")
	assert.Equal(t, "upper left", where(made(t, asGIF.Bytes(), "image/gif"), red))
	// A header that promises more than any memory holds is not followed.
	huge := append([]byte{}, asPNG.Bytes()...)
	binary.BigEndian.PutUint32(huge[16:], 1<<30)
	for name, content := range map[string][]byte{"empty": {}, "text": []byte("larch"), "cut": asPNG.Bytes()[:60],
		"huge": huge, "odd header": photo(t, marked(9, 9, red), 1, nil)[:40]} {
		_, err := face.Picture(t.Context(), bytes.NewReader(content), "image/png", int64(len(content)))
		assert.ErrorIs(t, err, face.ErrNone, name)
	}
}

func TestAClipShowsAFrame(t *testing.T) {
	ffmpeg, err := exec.LookPath("ffmpeg")
	if err != nil {
		t.Skip("without ffmpeg clips have no face")
	}
	file := filepath.Join(t.TempDir(), "slip way's.mp4")
	require.NoError(t, exec.Command(ffmpeg, "-nostdin", "-v", "error", "-f", "lavfi", "-i",
		"testsrc=size=640x360:duration=1", file).Run())
	small, err := face.Clip(t.Context(), file, "video/mp4")
	require.NoError(t, err)
	img, err := jpeg.DecodeConfig(bytes.NewReader(small))
	require.NoError(t, err)
	assert.Equal(t, []int{320, 180}, []int{img.Width, img.Height})
	// A list of files is not a clip, whatever it is called: nothing that it names is read.
	list := filepath.Join(t.TempDir(), "list.mp4")
	require.NoError(t, os.WriteFile(list, []byte("ffconcat version 1.0\nfile '"+file+"'\n"), 0o600))
	for _, contentType := range []string{"video/mp4", "video/x-matroska", "text/plain", ""} {
		_, err = face.Clip(t.Context(), list, contentType)
		assert.ErrorIs(t, err, face.ErrNone, contentType)
	}
}

func TestTheCacheKeepsToItsBound(t *testing.T) {
	c := &face.Cache{Dir: filepath.Join(t.TempDir(), "faces"), Most: 100_000}
	t.Cleanup(c.Close)
	calls := 0
	ask := func(key string) {
		t.Helper()
		content, err := c.Of(t.Context(), key, media.Photo, func(context.Context) ([]byte, error) {
			calls++
			return bytes.Repeat([]byte(key), 1000), nil
		})
		require.NoError(t, err)
		assert.Equal(t, key, string(content[:len(key)]))
	}
	for i := range 100 {
		ask(fmt.Sprintf("a-%03d", i))
		ask("a-000") // it is asked for all the time, and stays
		total := int64(0)
		entries, err := os.ReadDir(c.Dir)
		require.NoError(t, err)
		for _, e := range entries {
			info, err := e.Info()
			require.NoError(t, err)
			total += info.Size()
		}
		require.LessOrEqual(t, total, c.Most)
	}
	assert.Equal(t, 100, calls)
	ask("a-001")
	assert.Equal(t, 101, calls, "what had to go is made again")
}

func TestOneFaceIsMadeAtATimeAndOnce(t *testing.T) {
	c := &face.Cache{Dir: t.TempDir()}
	t.Cleanup(c.Close)
	var at, calls atomic.Int32
	var asking sync.WaitGroup
	for i := range 40 {
		asking.Go(func() {
			_, err := c.Of(t.Context(), fmt.Sprint("k-", i%4), media.Photo, func(context.Context) ([]byte, error) {
				assert.EqualValues(t, 1, at.Add(1))
				time.Sleep(time.Millisecond)
				at.Add(-1)
				calls.Add(1)
				if i%4 == 0 {
					return nil, face.ErrNone
				}
				return []byte("x"), nil
			})
			if i%4 == 0 {
				assert.ErrorIs(t, err, face.ErrNone)
			} else {
				assert.NoError(t, err)
			}
		})
	}
	asking.Wait()
	assert.EqualValues(t, 4, calls.Load(), "that there is none is kept too")
	_, err := c.Of(t.Context(), "k-9", media.Photo, func(context.Context) ([]byte, error) { return nil, face.ErrAway })
	assert.ErrorIs(t, err, face.ErrAway)
	_, err = c.Of(t.Context(), "k-9", media.Photo, func(context.Context) ([]byte, error) { return []byte("x"), nil })
	assert.NoError(t, err, "a file that was away is asked for again")
}

// Who asks is not kept: a browser has few connections, and needs them.
func TestWhatTakesLongIsMadeBesideWhoAsks(t *testing.T) {
	c := &face.Cache{Dir: t.TempDir()}
	release, began := make(chan struct{}), make(chan struct{}, 1)
	slow := func(ctx context.Context) ([]byte, error) {
		began <- struct{}{}
		select {
		case <-release:
			return []byte("x"), nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	_, err := c.Of(t.Context(), "k-1", media.Photo, slow)
	assert.ErrorIs(t, err, face.ErrBusy)
	<-began
	_, err = c.Of(t.Context(), "k-1", media.Photo, slow)
	assert.ErrorIs(t, err, face.ErrBusy, "and it is begun once")
	close(release)
	require.Eventually(t, func() bool {
		content, err := c.Of(t.Context(), "k-1", media.Photo, slow)
		return err == nil && string(content) == "x"
	}, 10*time.Second, time.Millisecond)
	assert.Empty(t, began)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	stuck := func(ctx context.Context) ([]byte, error) { <-ctx.Done(); return nil, ctx.Err() }
	_, err = c.Of(gone, "k-2", media.Photo, stuck)
	assert.Error(t, err)
	for i := range 150 { // however many are asked for, few wait
		_, err = c.Of(gone, fmt.Sprint("k-1", i), media.Photo, stuck)
		assert.Error(t, err)
	}
	c.Close() // ends what is being made
	_, err = c.Of(t.Context(), "k-3", media.Photo, stuck)
	assert.ErrorIs(t, err, face.ErrBusy)
}
