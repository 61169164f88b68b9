package inbox_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/inbox"
	"yardtide/engine/records"
	"yardtide/wire"
)

// box is an inbox that is opened anew now and then; which contents are safe the test says.
type box struct {
	*inbox.Inbox
	dir     string
	room    *inbox.Room
	records *records.Records
	safe    map[string]bool // by content
}

func (b *box) open(t require.TestingT) {
	ctx := context.Background()
	r, err := records.Open(ctx, filepath.Join(b.dir, "records.db"))
	require.NoError(t, err)
	b.records, b.room = r, &inbox.Room{Free: func() int64 { return -1 }, Most: func() int64 { return 1 << 40 }}
	b.Inbox, err = inbox.Open(ctx, inbox.Options{Phone: "toms-phone", Dir: filepath.Join(b.dir, "inbox"), Records: r, Room: b.room, Tell: func() {},
		Most: func() int64 { return 1 << 40 }, HeldFor: func() time.Duration { return 7 * 24 * time.Hour },
		Judge: func(ctx context.Context, paths [][2]string) (all []inbox.Standing, err error) {
			for _, p := range paths {
				h, some, err := r.Handed.At(ctx, p[0], p[1])
				if err != nil {
					return nil, err
				}
				is := some && b.safe[h.SHA256]
				all = append(all, inbox.Standing{Safe: is, May: is, Settled: is})
			}
			return all, nil
		}})
	require.NoError(t, err)
}

func (b *box) close(t require.TestingT) {
	require.NoError(t, b.Close())
	require.NoError(t, b.records.Close())
}

// lie are the contents that lie in the inbox and its holding place, and how many bytes they have in all.
func (b *box) lie(t require.TestingT) (all map[string]int, bytes int64) {
	all = map[string]int{}
	require.NoError(t, filepath.WalkDir(filepath.Join(b.dir, "inbox"), func(at string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.Contains(at, "/.parts/") {
			return err
		}
		content, err := os.ReadFile(at)
		all[hashOf(string(content))]++
		bytes += int64(len(content))
		return err
	}))
	return all, bytes
}

func hashOf(content string) string {
	sum := sha256.Sum256([]byte(content))
	return hex.EncodeToString(sum[:])
}

// Whatever is put, renamed, removed, freed, judged and begun anew, in any order: what was taken on and is not safe lies
// there, whole; nothing else lies there; and the room that is counted is the room that is taken.
func TestNothingThatIsNotSafeIsLost(t *testing.T) {
	dir := t.TempDir()
	n := 0
	require.NoError(t, flag.Set("rapid.checks", "40"))
	rapid.Check(t, func(rt *rapid.T) {
		n++
		b := &box{dir: filepath.Join(dir, fmt.Sprint(n)), safe: map[string]bool{}}
		require.NoError(rt, os.MkdirAll(b.dir, 0o700))
		b.open(rt)
		ctx, now := context.Background(), time.Now()
		taken := map[string]bool{} // contents, by their hash
		name := func(label string) string {
			return rapid.SampledFrom([]string{"a.jpg", "b.jpg", "June/a.jpg", "June/b.jpg", "June", "July/x/a.jpg"}).Draw(rt, label)
		}
		for range rapid.IntRange(1, 30).Draw(rt, "steps") {
			way := rapid.SampledFrom(inbox.Ways).Draw(rt, "way")
			switch rapid.IntRange(0, 8).Draw(rt, "what") {
			case 0, 1, 2:
				content := fmt.Sprintf("content %d", rapid.IntRange(0, 8).Draw(rt, "content"))
				w, err := b.Create(-1)
				require.NoError(rt, err)
				_, err = w.Write([]byte(content))
				require.NoError(rt, err)
				if rapid.IntRange(0, 5).Draw(rt, "cut") == 0 {
					require.NoError(rt, w.Drop())
					continue
				}
				took, err := w.Take(ctx, way, name("name"), time.Time{}, rapid.Bool().Draw(rt, "over"))
				if err == nil { // else a file is in the way of a folder
					taken[hashOf(content)] = true
					is, err := b.Listing.Stat(ctx, way, took.Path)
					require.NoError(rt, err, "what was taken is listed, also what was removed under its name before")
					require.Equal(rt, hashOf(content), is.Tag)
				}
			case 3:
				err := b.Listing.Rename(ctx, way, name("from"), name("to"), rapid.Bool().Draw(rt, "over"))
				var bad inbox.BadName
				if err != nil && !errors.As(err, &bad) && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) {
					require.NoError(rt, err)
				}
			case 4:
				err := b.Listing.Remove(ctx, way, name("removed"))
				if err != nil && !errors.Is(err, inbox.ErrNotSafe) && !errors.Is(err, inbox.ErrFolderHolds) && !errors.Is(err, fs.ErrNotExist) {
					require.NoError(rt, err)
				}
			case 5:
				is := hashOf(fmt.Sprintf("content %d", rapid.IntRange(0, 8).Draw(rt, "judged")))
				b.safe[is] = !b.safe[is]
			case 6:
				now = now.Add(time.Duration(rapid.IntRange(0, 9).Draw(rt, "days")) * 24 * time.Hour)
				require.NoError(rt, b.Free(ctx, now))
			case 7:
				b.close(rt)
				b.open(rt)
			case 8:
				_, err := b.TakeBack(ctx)
				require.NoError(rt, err)
			}
			lie, bytes := b.lie(rt)
			for is := range taken {
				if !b.safe[is] && lie[is] == 0 {
					// It may have been removed while it was safe, and be no longer.
					gone, err := b.records.Handed.WithContent(ctx, []string{is})
					require.NoError(rt, err)
					removed := len(gone) > 0
					for _, h := range gone {
						removed = removed && h.GoneMS > 0
					}
					require.True(rt, removed, "content that is not safe is gone")
				}
			}
			for is := range lie {
				require.True(rt, taken[is], "nothing else lies there")
			}
			require.Equal(rt, bytes, b.room.Taken("toms-phone"), "the room that is counted")
		}
		b.close(rt)
	})
}

// Safe is what every place has, as shot at one at least; what is still to be made of it keeps it here.
func TestHowAFileStands(t *testing.T) {
	item := func(state queue.State, copies ...wire.Copy) inbox.Standing {
		return inbox.StandingOf(wire.Item{State: string(state), Says: "It waits.", Copies: copies})
	}
	shed, small := wire.Copy{Destination: "shed", State: "safe"}, wire.Copy{Destination: "locker", State: "safe", Reduced: true}
	assert.Equal(t, inbox.Standing{Safe: true, AsShot: []string{"shed"}, Smaller: []string{"locker"}, May: true, Settled: true}, item(queue.Safe, shed, small))
	assert.Equal(t, inbox.Standing{Safe: true, Smaller: []string{"locker"}}, item(queue.Safe, small), "no original is anywhere but on the phone")
	preview := wire.Copy{Destination: "shed", Shelf: plan.Preview, State: "waiting"}
	assert.Equal(t, inbox.Standing{Safe: true, AsShot: []string{"shed"}, May: true}, item(queue.Safe, shed, preview), "a preview is made of it still")
	raw := wire.Copy{Destination: "shed", Part: "a.dng", State: "waiting"}
	assert.Equal(t, inbox.Standing{AsShot: []string{"shed"}, Says: "It waits."}, item(queue.Waiting, shed, raw), "its raw is not safe")
}
