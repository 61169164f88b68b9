// Package destinationtest holds a driver against the promises of
// destination.Driver. Every driver passes it against every real server that
// there is.
package destinationtest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/naming"
	"yardtide/engine/destination"
)

// Run holds one storage against the promises. open makes a driver for an
// empty storage.
func Run(t *testing.T, open func(t *testing.T) destination.Driver) {
	for _, p := range promises {
		t.Run(p.name, func(t *testing.T) {
			d := open(t)
			t.Cleanup(func() { assert.NoError(t, d.Close()) })
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			t.Cleanup(cancel)
			p.check(ctx, t, d)
		})
	}
}

var promises = []struct {
	name  string
	check func(context.Context, *testing.T, destination.Driver)
}{
	{"what goes up comes back whole", wholeness},
	{"names of every sort", names},
	{"an existing file is never overwritten", neverOverwrites},
	{"two publish one name and one wins", race},
	{"a temporary file can be sent again", sendAgain},
	{"a body that fails fails the send", bodyFails},
	{"a body that is too short fails the send", bodyShort},
	{"a send can be cancelled", cancelled},
	{"what is not there is not found", notFound},
	{"only temporary files are removed", removal},
	{"space is told or not known", space},
}

func put(ctx context.Context, t *testing.T, d destination.Driver, temp string, content []byte) {
	t.Helper()
	require.NoError(t, d.Put(ctx, temp, bytes.NewReader(content), int64(len(content))))
}

func read(ctx context.Context, t *testing.T, d destination.Driver, path string) []byte {
	t.Helper()
	r, err := d.Open(ctx, path)
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	return content
}

func noise(n int) []byte {
	content := make([]byte, n)
	generator := rand.NewChaCha8([32]byte{byte(n)})
	_, _ = generator.Read(content) // it never fails
	return content
}

func wholeness(ctx context.Context, t *testing.T, d destination.Driver) {
	for i, size := range []int{0, 1, 4096, 3 << 20} {
		content := noise(size)
		temp, path := destination.Temp("dev", int64(i), 1), "2026/03/"+strings.Repeat("a", i+1)+".jpg"
		put(ctx, t, d, temp, content)
		n, err := d.Size(ctx, temp)
		require.NoError(t, err)
		assert.EqualValues(t, size, n)
		require.NoError(t, d.Publish(ctx, temp, path))
		n, err = d.Size(ctx, path)
		require.NoError(t, err)
		assert.EqualValues(t, size, n)
		assert.Equal(t, sha256.Sum256(content), sha256.Sum256(read(ctx, t, d, path)), "%d bytes", size)
		_, err = d.Size(ctx, temp)
		assert.ErrorIs(t, err, destination.ErrNotFound, "the temporary name is gone")
	}
}

func names(ctx context.Context, t *testing.T, d destination.Driver) {
	for i, name := range []string{"plain.jpg", "with space.jpg", "50% off #1 & more.jpg", "quo'te;s=+,.jpg", "café.jpg", "cafe\u0301.jpg", "tide 🌊.jpg", "[x]{y}~^$.jpg",
		"line\nbreak.jpg", "bad\xff.jpg", strings.Repeat("é", 130) + ".jpg", "IMG_1 (3fa9c2d1).jpg"} {
		path := "2026/ü b/" + naming.Safe(name)
		if name == "cafe\u0301.jpg" {
			path = "2026/nfd/" + naming.Safe(name)
		}
		temp := destination.Temp("dev", int64(i), 1)
		put(ctx, t, d, temp, []byte(name))
		require.NoError(t, d.Publish(ctx, temp, path), "%q", path)
		assert.Equal(t, name, string(read(ctx, t, d, path)), "%q", path)
	}
}

func neverOverwrites(ctx context.Context, t *testing.T, d destination.Driver) {
	first, second := destination.Temp("dev", 1, 1), destination.Temp("dev", 2, 1)
	put(ctx, t, d, first, []byte("first"))
	put(ctx, t, d, second, []byte("second"))
	require.NoError(t, d.Publish(ctx, first, "a/b.jpg"))
	assert.ErrorIs(t, d.Publish(ctx, second, "a/b.jpg"), destination.ErrExists)
	assert.Equal(t, "first", string(read(ctx, t, d, "a/b.jpg")))
	n, err := d.Size(ctx, second)
	require.NoError(t, err, "the temporary file stays, to be put elsewhere")
	assert.EqualValues(t, 6, n)
	require.NoError(t, d.Publish(ctx, second, "a/b (2).jpg"))
}

func race(ctx context.Context, t *testing.T, d destination.Driver) {
	for round := range 10 {
		const racers = 4
		path := "race/" + strings.Repeat("x", round+1)
		won := make([]error, racers)
		for i := range racers {
			put(ctx, t, d, destination.Temp("dev", int64(round*racers+i), 1), []byte{byte(i)})
		}
		var all sync.WaitGroup
		for i := range racers {
			all.Go(func() { won[i] = d.Publish(ctx, destination.Temp("dev", int64(round*racers+i), 1), path) })
		}
		all.Wait()
		winner := -1
		for i, err := range won {
			if err == nil {
				require.Equal(t, -1, winner, "two won")
				winner = i
			} else {
				require.ErrorIs(t, err, destination.ErrExists)
			}
		}
		require.NotEqual(t, -1, winner, "nobody won")
		assert.Equal(t, []byte{byte(winner)}, read(ctx, t, d, path))
	}
}

func sendAgain(ctx context.Context, t *testing.T, d destination.Driver) {
	temp := destination.Temp("dev", 1, 1)
	put(ctx, t, d, temp, noise(100_000))
	put(ctx, t, d, temp, []byte("short"))
	assert.Equal(t, "short", string(read(ctx, t, d, temp)))
}

func bodyFails(ctx context.Context, t *testing.T, d destination.Driver) {
	own := errors.New("the card was pulled")
	body := io.MultiReader(bytes.NewReader(noise(200_000)), failing{own})
	err := d.Put(ctx, destination.Temp("dev", 1, 1), body, 400_000)
	assert.ErrorIs(t, err, own)
	put(ctx, t, d, destination.Temp("dev", 1, 1), []byte("again"))
	assert.Equal(t, "again", string(read(ctx, t, d, destination.Temp("dev", 1, 1))))
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func bodyShort(ctx context.Context, t *testing.T, d destination.Driver) {
	for _, size := range []int64{400_000, 2 << 20} {
		assert.Error(t, d.Put(ctx, destination.Temp("dev", size, 1), bytes.NewReader(noise(200_000)), size))
	}
}

func cancelled(ctx context.Context, t *testing.T, d destination.Driver) {
	why := errors.New("a gate shut")
	ctx, cancel := context.WithCancelCause(ctx)
	pr, pw := io.Pipe()
	go func() {
		_, _ = pw.Write(noise(100_000)) // unblocked by Close below
		cancel(why)
		_ = pw.CloseWithError(why)
	}()
	assert.ErrorIs(t, d.Put(ctx, destination.Temp("dev", 1, 1), pr, 2<<20), why)
}

func notFound(ctx context.Context, t *testing.T, d destination.Driver) {
	_, err := d.Size(ctx, "2026/nothing.jpg")
	assert.ErrorIs(t, err, destination.ErrNotFound)
	_, err = d.Open(ctx, "2026/nothing.jpg")
	assert.ErrorIs(t, err, destination.ErrNotFound)
	assert.Error(t, d.Publish(ctx, destination.Temp("dev", 404, 1), "2026/nothing.jpg"), "nothing cannot be put in place")
	_, err = d.Size(ctx, "2026/nothing.jpg")
	assert.ErrorIs(t, err, destination.ErrNotFound)
}

func removal(ctx context.Context, t *testing.T, d destination.Driver) {
	temp := destination.Temp("dev", 1, 1)
	assert.NoError(t, d.Remove(ctx, temp), "nothing there is no error")
	put(ctx, t, d, temp, []byte("x"))
	require.NoError(t, d.Publish(ctx, temp, "keep.jpg"))
	for _, path := range []string{"keep.jpg", destination.TempDir, destination.TempDir + "/../keep.jpg", "."} {
		assert.Error(t, d.Remove(ctx, path), path)
	}
	assert.Equal(t, "x", string(read(ctx, t, d, "keep.jpg")))
	put(ctx, t, d, temp, []byte("y"))
	require.NoError(t, d.Remove(ctx, temp))
	_, err := d.Size(ctx, temp)
	assert.ErrorIs(t, err, destination.ErrNotFound)
}

func space(ctx context.Context, t *testing.T, d destination.Driver) {
	s, ok := d.(destination.Spacer)
	if !ok {
		t.Skip("this driver cannot tell")
	}
	room, err := s.Space(ctx)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, room.Free, int64(-1))
	assert.GreaterOrEqual(t, room.Used, int64(-1))
}
