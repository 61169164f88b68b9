// Package destinationtest holds a driver against the promises of
// destination.Driver. Every driver passes it against every real server that
// there is.
package destinationtest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/naming"
	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Run holds one storage against the promises. empty makes an empty storage; what
// it returns makes drivers for it. Run returns what the storage was found to be able to do, by the
// names in Abilities.
func Run(t *testing.T, empty func(t *testing.T) func() destination.Driver) map[string]string {
	found := map[string]string{}
	for _, p := range promises {
		t.Run(p.name, func(t *testing.T) {
			d := empty(t)()
			t.Cleanup(func() { assert.NoError(t, d.Close()) })
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			t.Cleanup(cancel)
			p.check(ctx, t, d)
		})
	}
	t.Run("four services race for one name and one wins", func(t *testing.T) { services(t, empty(t)) })
	for name, see := range Abilities {
		t.Run(name, func(t *testing.T) {
			d := empty(t)()
			t.Cleanup(func() { assert.NoError(t, d.Close()) })
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			t.Cleanup(cancel)
			found[name] = see(ctx, t, d)
		})
	}
	return found
}

// Abilities are what storages differ in; each tells in a few words what was
// found.
var Abilities = map[string]func(context.Context, *testing.T, destination.Driver) string{
	"goes on after a cut": goesOn,
	"proof":               proves,
	"tells its space":     space,
	"folders":             browses,
	"copies by itself":    copies,
	"keeps a file's time": dates,
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
	{"a file that is placed under its own name is whole, and writes over nothing", placed},
	{"what is taken out of its place lies under a temporary name", withdrawal},
}

// Temp is a temporary name for a test, the same for the same number.
func Temp(n int64) string { return fmt.Sprintf("%s/test-%032x.part", destination.TempDir, n) }

func put(ctx context.Context, t *testing.T, d destination.Driver, temp string, content []byte) {
	t.Helper()
	err := d.Put(ctx, temp, bytes.NewReader(content), 0, int64(len(content)))
	// A server may hold the name for a moment after a cut send, or still write what it had.
	for try := 0; try < 50 && err != nil && (destination.CauseOf(err) == queue.Busy ||
		destination.CauseOf(err) == queue.Different); try++ {
		time.Sleep(100 * time.Millisecond)
		err = d.Put(ctx, temp, bytes.NewReader(content), 0, int64(len(content)))
	}
	require.NoError(t, err)
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
		temp, path := Temp(int64(i)), "2026/03/"+strings.Repeat("a", i+1)+".jpg"
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
	for i, name := range []string{"plain.jpg", "with space.jpg", "50% off #1 & more.jpg", "quo'te;s=+,.jpg", "café.jpg",
		"cafe\u0301.jpg", "tide 🌊.jpg", "[x]{y}~^$.jpg",
		"line\nbreak.jpg", "bad\xff.jpg", strings.Repeat("é", 130) + ".jpg", "IMG_1 (3fa9c2d1).jpg"} {
		path := "2026/ü b/" + naming.Safe(name)
		if name == "cafe\u0301.jpg" {
			path = "2026/nfd/" + naming.Safe(name)
		}
		temp := Temp(int64(i))
		put(ctx, t, d, temp, []byte(name))
		require.NoError(t, d.Publish(ctx, temp, path), "%q", path)
		assert.Equal(t, name, string(read(ctx, t, d, path)), "%q", path)
	}
}

func neverOverwrites(ctx context.Context, t *testing.T, d destination.Driver) {
	first, second := Temp(1), Temp(2)
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

// Sum is the SHA-256 of content, in hex.
func Sum(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// placed holds a Placer to its word; a storage that is none, or was seen to be none, is held to nothing.
func placed(ctx context.Context, t *testing.T, d destination.Driver) {
	p, able := d.(destination.Placer)
	if !able {
		t.Skip("files go under a temporary name here")
	}
	for i, content := range [][]byte{noise(4096), {}, noise(1), noise(256 << 10), []byte("gull")} {
		path := fmt.Sprintf("2026/%d é #%%.jpg", i)
		err := p.Place(ctx, path, content, Sum(content))
		if errors.Is(err, destination.ErrUnable) {
			t.Skip("this storage heeds no name as a file is put")
		}
		require.NoError(t, err)
		assert.Equal(t, content, append([]byte{}, read(ctx, t, d, path)...))
		for range 2 {
			require.ErrorIs(t, p.Place(ctx, path, []byte("another"), Sum([]byte("another"))), destination.ErrExists)
		}
		assert.Equal(t, content, append([]byte{}, read(ctx, t, d, path)...), "what was there stays")
		put(ctx, t, d, Temp(int64(i)), []byte("another"))
		require.ErrorIs(t, d.Publish(ctx, Temp(int64(i)), path), destination.ErrExists, "nor is it by way of a temporary name")
	}
	put(ctx, t, d, Temp(99), []byte("barge"))
	require.NoError(t, d.Publish(ctx, Temp(99), "2026/published.jpg"))
	require.ErrorIs(t, p.Place(ctx, "2026/published.jpg", []byte("gull"), Sum([]byte("gull"))), destination.ErrExists)
	for round := range 10 {
		path := fmt.Sprintf("race/%d.jpg", round)
		contents, won := [][]byte{[]byte("one"), []byte("another"), []byte("a third")}, make([]error, 3)
		var all sync.WaitGroup
		for i, content := range contents {
			all.Go(func() { won[i] = p.Place(ctx, path, content, Sum(content)) })
		}
		all.Wait()
		winner := slices.IndexFunc(won, func(err error) bool { return err == nil })
		require.GreaterOrEqual(t, winner, 0, "%v", won)
		for i, err := range won {
			require.True(t, i == winner || errors.Is(err, destination.ErrExists), "%v", won)
		}
		assert.Equal(t, contents[winner], read(ctx, t, d, path))
	}
	cut, stop := context.WithCancel(ctx)
	stop()
	require.Error(t, p.Place(cut, "2026/cut.jpg", noise(4096), Sum(noise(4096))))
	if _, err := d.Size(ctx, "2026/cut.jpg"); err == nil {
		assert.Equal(t, noise(4096), read(ctx, t, d, "2026/cut.jpg"), "all of it, or nothing")
	}
}

func race(ctx context.Context, t *testing.T, d destination.Driver) {
	for round := range 10 {
		const racers = 4
		path := "race/" + strings.Repeat("x", round+1)
		won := make([]error, racers)
		for i := range racers {
			put(ctx, t, d, Temp(int64(round*racers+i)), []byte{byte(i)})
		}
		var all sync.WaitGroup
		for i := range racers {
			all.Go(func() { won[i] = d.Publish(ctx, Temp(int64(round*racers+i)), path) })
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

// Rounds is how often services race for a name. YARDTIDE_ROUNDS sets it.
func Rounds(otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv("YARDTIDE_ROUNDS")); err == nil {
		return n
	}
	return otherwise
}

// services are four that know nothing of each other: drivers of their own, as of
// four processes, put something in place under one name at the same moment.
func services(t *testing.T, open func() destination.Driver) {
	const racers = 4
	drivers := make([]destination.Driver, racers)
	for i := range drivers {
		drivers[i] = open()
		t.Cleanup(func() { assert.NoError(t, drivers[i].Close()) })
	}
	for round := range Rounds(4) {
		path := fmt.Sprintf("race/%d", round)
		var ready, all sync.WaitGroup
		ready.Add(racers)
		won := make([]error, racers)
		for i, d := range drivers {
			all.Go(func() {
				temp := Temp(int64(i))
				put(t.Context(), t, d, temp, []byte{byte(i)})
				ready.Done()
				ready.Wait()
				if won[i] = d.Publish(t.Context(), temp, path); errors.Is(won[i], destination.ErrExists) {
					assert.NoError(t, d.Remove(t.Context(), temp))
				}
			})
		}
		all.Wait()
		var winners []byte
		for i, err := range won {
			if err == nil {
				winners = append(winners, byte(i))
			} else {
				require.ErrorIs(t, err, destination.ErrExists, "round %d", round)
			}
		}
		require.Len(t, winners, 1, "round %d: who was told that it is there", round)
		require.Equal(t, winners, read(t.Context(), t, drivers[0], path), "round %d", round)
	}
}

func sendAgain(ctx context.Context, t *testing.T, d destination.Driver) {
	temp := Temp(1)
	put(ctx, t, d, temp, noise(100_000))
	put(ctx, t, d, temp, []byte("short"))
	assert.Equal(t, "short", string(read(ctx, t, d, temp)))
}

func bodyFails(ctx context.Context, t *testing.T, d destination.Driver) {
	own := errors.New("the card was pulled")
	body := io.MultiReader(bytes.NewReader(noise(200_000)), failing{own})
	err := d.Put(ctx, Temp(1), body, 0, 400_000)
	assert.ErrorIs(t, err, own)
	// A server may write what it was sent later than the error is told, so what is sent
	// again from its first byte has another name.
	put(ctx, t, d, Temp(2), []byte("again"))
	assert.Equal(t, "again", string(read(ctx, t, d, Temp(2))))
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func bodyShort(ctx context.Context, t *testing.T, d destination.Driver) {
	for _, size := range []int64{400_000, 2 << 20} {
		assert.Error(t, d.Put(ctx, Temp(size), bytes.NewReader(noise(200_000)), 0, size))
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
	assert.ErrorIs(t, d.Put(ctx, Temp(1), pr, 0, 2<<20), why)
}

func notFound(ctx context.Context, t *testing.T, d destination.Driver) {
	_, err := d.Size(ctx, "2026/nothing.jpg")
	assert.ErrorIs(t, err, destination.ErrNotFound)
	_, err = d.Open(ctx, "2026/nothing.jpg")
	assert.ErrorIs(t, err, destination.ErrNotFound)
	assert.Error(t, d.Publish(ctx, Temp(404), "2026/nothing.jpg"), "nothing cannot be put in place")
	_, err = d.Size(ctx, "2026/nothing.jpg")
	assert.ErrorIs(t, err, destination.ErrNotFound)
}

func removal(ctx context.Context, t *testing.T, d destination.Driver) {
	temp := Temp(1)
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

func withdrawal(ctx context.Context, t *testing.T, d destination.Driver) {
	out := destination.NewWithdrawn("test")
	assert.ErrorIs(t, d.Withdraw(ctx, "none.jpg", out), destination.ErrNotFound)
	for _, path := range []string{"keep.jpg", "deep/er/keep me #1.jpg"} {
		put(ctx, t, d, Temp(1), []byte("taken out"))
		require.NoError(t, d.Publish(ctx, Temp(1), path))
		for _, not := range []string{"else.jpg", destination.TempDir, destination.TempDir + "/../else.jpg"} {
			assert.Error(t, d.Withdraw(ctx, path, not), not)
		}
		require.NoError(t, d.Withdraw(ctx, path, out))
		_, err := d.Size(ctx, path)
		assert.ErrorIs(t, err, destination.ErrNotFound)
		assert.Equal(t, "taken out", string(read(ctx, t, d, out)))
		require.NoError(t, d.Publish(ctx, out, path), "it can be put back")
		assert.Equal(t, "taken out", string(read(ctx, t, d, path)))
		require.NoError(t, d.Withdraw(ctx, path, out))
		require.NoError(t, d.Remove(ctx, out))
	}
}

func dates(ctx context.Context, t *testing.T, d destination.Driver) string {
	dater, able := d.(destination.Dater)
	if !able {
		return "no"
	}
	at := time.Date(2019, 5, 4, 3, 2, 1, 0, time.UTC)
	put(ctx, t, d, Temp(1), []byte("dated"))
	assert.Error(t, dater.SetTime(ctx, "else.jpg", at), "only what is on its way")
	require.NoError(t, dater.SetTime(ctx, Temp(1), at))
	require.NoError(t, d.Publish(ctx, Temp(1), "dated.jpg"))
	assert.Equal(t, "dated", string(read(ctx, t, d, "dated.jpg")))
	return "yes"
}

func copies(ctx context.Context, t *testing.T, d destination.Driver) string {
	c, able := d.(destination.Copier)
	if !able {
		return "no"
	}
	content := noise(300_000)
	put(ctx, t, d, Temp(1), content)
	require.NoError(t, d.Publish(ctx, Temp(1), "deep/whole it's.jpg"))
	assert.Error(t, c.Copy(ctx, "deep/whole it's.jpg", "else.jpg"))
	err := c.Copy(ctx, "deep/whole it's.jpg", Temp(2))
	if errors.Is(err, destination.ErrUnable) {
		_, err := d.Size(ctx, Temp(2))
		assert.ErrorIs(t, err, destination.ErrNotFound)
		return "no"
	}
	require.NoError(t, err)
	require.NoError(t, d.Publish(ctx, Temp(2), "picks/one.jpg"))
	assert.Equal(t, content, read(ctx, t, d, "picks/one.jpg"))
	assert.Equal(t, content, read(ctx, t, d, "deep/whole it's.jpg"))
	assert.ErrorIs(t, c.Copy(ctx, "none.jpg", Temp(3)), destination.ErrNotFound)
	return "yes"
}

func space(ctx context.Context, t *testing.T, d destination.Driver) string {
	s, ok := d.(destination.Spacer)
	if !ok {
		return "no"
	}
	room, err := s.Space(ctx)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, room.Free, int64(-1))
	assert.GreaterOrEqual(t, room.Used, int64(-1))
	if room.Free < 0 {
		return "no"
	}
	return "yes"
}

// goesOn cuts a large send, as a lost network does, and goes on.
func goesOn(ctx context.Context, t *testing.T, d destination.Driver) string {
	const size, cut = 40 << 20, 35 << 20
	r, ok := d.(destination.Resumer)
	if !ok {
		return "begins anew"
	}
	content := noise(size)
	temp, lost := Temp(1), errors.New("the network went")
	assert.ErrorIs(t, d.Put(ctx, temp, io.MultiReader(bytes.NewReader(content[:cut]), failing{lost}), 0, size), lost)

	kept, err := r.Kept(ctx, temp, bytes.NewReader(noise(size + 1)[:size]), size)
	require.NoError(t, err)
	assert.Zero(t, kept, "nothing is built on another file's bytes")

	kept, err = r.Kept(ctx, temp, bytes.NewReader(content), size)
	require.NoError(t, err)
	require.LessOrEqual(t, kept, int64(cut))
	require.NoError(t, d.Put(ctx, temp, bytes.NewReader(content[kept:]), kept, size))
	assert.Equal(t, sha256.Sum256(content), sha256.Sum256(read(ctx, t, d, temp)))
	require.NoError(t, d.Remove(ctx, temp))
	if kept > 0 {
		err = d.Put(ctx, temp, bytes.NewReader(content[kept:]), kept, size)
		assert.Equal(t, queue.Busy, destination.CauseOf(err), "what it builds on is gone, and no hole takes its place: %v",
			err)
		require.NoError(t, d.Remove(ctx, temp))
	}
	if kept == 0 {
		assert.False(t, r.Resumes())
		return "begins anew"
	}
	assert.True(t, r.Resumes())
	assert.GreaterOrEqual(t, kept, int64(cut-16<<20), "at most one part goes twice")
	return "yes"
}

func proves(ctx context.Context, t *testing.T, d destination.Driver) string {
	p, ok := d.(destination.Prover)
	if !ok {
		return "read back"
	}
	ways := map[string]bool{}
	for i, size := range []int{1, 100_000, 20 << 20} {
		content := noise(size)
		sum, wrong := sha256.Sum256(content), sha256.Sum256([]byte("something else"))
		temp, path := Temp(int64(i)), fmt.Sprintf("it's \"%d\" $HOME.jpg", i)
		put(ctx, t, d, temp, content)
		require.NoError(t, d.Publish(ctx, temp, path))
		way, err := p.Prove(ctx, path, hex.EncodeToString(sum[:]), int64(size))
		require.NoError(t, err)
		ways[way] = true
		_, err = p.Prove(ctx, path, hex.EncodeToString(sum[:]), int64(size)+1)
		assert.Equal(t, queue.Different, destination.CauseOf(err), "another length: %v", err)
		if way != "" {
			_, err = p.Prove(ctx, path, hex.EncodeToString(wrong[:]), int64(size))
			assert.Equal(t, queue.Different, destination.CauseOf(err), "another content: %v", err)
		}
	}
	_, err := p.Prove(ctx, "nothing.jpg", strings.Repeat("0", 64), 1)
	assert.ErrorIs(t, err, destination.ErrNotFound)
	require.Len(t, ways, 1)
	if ways[""] {
		return "read back"
	}
	return "by the storage"
}

func browses(ctx context.Context, t *testing.T, d destination.Driver) string {
	b, ok := d.(destination.Browser)
	if !ok {
		return "no"
	}
	_, err := b.List(ctx, "nothing")
	assert.ErrorIs(t, err, destination.ErrNotFound)
	require.NoError(t, b.Tidy(ctx), "nothing to tidy is no error")
	require.NoError(t, b.MakeFolder(ctx, "Boats/Old ones"))
	require.NoError(t, b.MakeFolder(ctx, "Boats"), "it is there already")
	temp := Temp(1)
	put(ctx, t, d, temp, []byte("keel"))
	require.NoError(t, b.Tidy(ctx))
	assert.Equal(t, "keel", string(read(ctx, t, d, temp)), "what is on its way is left alone")
	require.NoError(t, d.Publish(ctx, temp, "Boats/50% ü.jpg"))
	require.NoError(t, b.Tidy(ctx))
	top, err := b.List(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, []destination.Entry{{Name: "Boats", Folder: true}}, top, "only what is the keeper's is left")
	in, err := b.List(ctx, "Boats")
	require.NoError(t, err)
	assert.Contains(t, in, destination.Entry{Name: "50% ü.jpg", Size: 4})
	if slices.Contains(in, destination.Entry{Name: "Old ones", Folder: true}) {
		return "yes"
	}
	return "by name only"
}
