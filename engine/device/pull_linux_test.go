package device_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yardtide/core/queue"
	"yardtide/engine/volume"
	"yardtide/engine/volume/volumetest"
	"yardtide/standin"
	"yardtide/wire"
	"yardtide/wire/cardwire"
)

// slot is a reader with a card of its own file system, which is put in and really pulled. It lists the card while it is
// mounted, as a system does.
type slot struct {
	reader
	t                *testing.T
	device, at, root string
	made             int // pictures on the card
	whole            map[string]bool
}

const cardID = "4F3A-11C2"

func (s *slot) in() {
	s.t.Helper()
	volumetest.Mounted(s.t, s.device, "exfat", s.at)
}

// List implements volume.Lister.
func (s *slot) List() []volume.Volume {
	var is unix.Statfs_t
	if err := unix.Statfs(s.root, &is); err != nil || is.Type != unix.FUSE_SUPER_MAGIC {
		return nil
	}
	return s.reader.List()
}

func (s *slot) seen() { s.put(volume.Volume{ID: cardID, Label: "EOS", Root: s.root}) }

func (s *slot) pull() {
	s.t.Helper()
	volumetest.Pull(s.t, s.device, s.at)
	s.put()
}

// shoots puts more pictures on the card, as a camera does: it is written to nowhere else.
func (s *slot) shoots(n int) {
	s.t.Helper()
	defer volumetest.Mounted(s.t, s.device, "exfat", s.at)()
	require.NoError(s.t, os.MkdirAll(s.root+"/DCIM/100BOATS", 0o755))
	for range n {
		s.made++
		content, err := standin.JPEG(s.made, 300, time.Date(2026, 4, 1+s.made%3, 9, s.made%60, 0, 0, time.UTC))
		require.NoError(s.t, err)
		s.whole[hash(content)] = true
		file := fmt.Sprintf("%s/DCIM/100BOATS/BOAT%04d.JPG", s.root, s.made)
		require.NoError(s.t, os.WriteFile(file, content, 0o644))
		past := time.Now().Add(-time.Hour)
		require.NoError(s.t, os.Chtimes(file, past, past))
	}
}

// inSlot makes a yard with a card that holds some pictures, and takes it through many pulls, at moments spread over the
// work. After each, and with the card in at the end, what is asked for is looked at.
func inSlot(t *testing.T, cards string, pulls int, after func(y *yard, s *slot), end func(y *yard, s *slot)) {
	t.Parallel()
	// The card is a folder on the file system: another program here would take one with a camera's folders for a card of
	// this machine. While it is out the folder is there, and empty, as where cards are mounted.
	at := t.TempDir()
	s := &slot{reader: reader{wake: make(chan struct{})}, t: t, device: volumetest.Formatted(t, "exfat"), at: at,
		root: at + "/EOS", whole: map[string]bool{}}
	require.NoError(t, os.Mkdir(s.root, 0o755))
	y := setupWith(t, home, s)
	y.follow("    sources:", "    cards:\n      "+cards+"\n    sources:")
	for pull := range pulls {
		if pull%5 == 0 {
			s.shoots(2)
		}
		s.in()
		before := whatIsIn(t, s.root)
		s.seen()
		time.Sleep(time.Duration(pull*7%60) * time.Millisecond)
		if pull%10 == 9 { // once in a while it has the time to go on
			time.Sleep(200 * time.Millisecond)
		}
		s.pull()
		after(y, s)
		s.in()
		assert.Equal(t, before, whatIsIn(t, s.root), "pull %d: nothing on the card changed", pull)
		volumetest.Pull(t, s.device, s.at)
	}
	s.in()
	s.seen()
	end(y, s)
	s.pull()
}

// pulls is how often a card is pulled: some times, or as often as is asked for.
func pulls() int {
	if n, err := strconv.Atoi(os.Getenv("YARDTIDE_PULLS")); err == nil {
		return n
	}
	return 25
}

func TestACardReallyPulledInTheMiddleOfASend(t *testing.T) {
	inSlot(t, cardID+": {rule: everyday}", pulls(), func(y *yard, s *slot) {
		for name, is := range whatIsIn(t, y.dir+"/locker") {
			if strings.HasSuffix(name, ".JPG") {
				assert.True(t, s.whole[is[:64]], "what has a final name is whole: %s", name)
			}
		}
		d := y.status()
		if !assert.Zero(t, d.States[queue.Stuck].N) {
			t.Fatal(y.story(copiesIn(t, y.records, queue.Stuck)[0].Name))
		}
		if !assert.Zero(t, d.States[queue.Skipped].N, "nothing on it is gone: it is away") {
			c := copiesIn(t, y.records, queue.Skipped)[0]
			t.Fatal(c.Name, c.Says, y.story(c.Name))
		}
	}, func(y *yard, s *slot) {
		y.until("all are safe", counts(queue.Safe, int64(s.made)))
		assert.Len(t, y.stored(), s.made)
	})
}

func TestACardReallyPulledInTheMiddleOfACopy(t *testing.T) {
	copied := func(y *yard) map[string]bool {
		there := map[string]bool{}
		for name, is := range whatIsIn(t, filepath.Join(y.dir, "phone/DCIM/Cards")) {
			if !strings.Contains(name, ".yardtide") {
				there[is[:64]] = true
			}
		}
		return there
	}
	inSlot(t, "any: {copy-to: DCIM/Cards}", pulls(), func(y *yard, s *slot) {
		require.NoError(t, os.MkdirAll(filepath.Join(y.dir, "phone/DCIM/Cards"), 0o755))
		for is := range copied(y) {
			assert.True(t, s.whole[is], "what has a final name is whole")
		}
		if y.card(cardID).State == cardwire.Done {
			assert.Len(t, copied(y), s.made, "it was told to be done")
		}
	}, func(y *yard, s *slot) {
		y.until("it is done", func(wire.Device) bool { return y.card(cardID).State == cardwire.Done })
		assert.Len(t, copied(y), s.made)
		y.until("and safe", counts(queue.Safe, int64(s.made)))
	})
}
