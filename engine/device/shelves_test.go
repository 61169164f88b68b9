package device_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/standin"
	"yardtide/wire"
)

// follow gives the device a plan with other words in it.
func (y *yard) follow(pairs ...string) *plan.Plan {
	y.t.Helper()
	p, err := plantext.Parse("plan", []byte(strings.NewReplacer(pairs...).Replace(yardPlan)))
	require.NoError(y.t, err)
	y.device.SetPlan(p)
	return p
}

// quickly has small copies go over cellular.
func (y *yard) quickly() {
	y.follow("destinations:", "renditions:\n  quick: {long-edge: 200, quality: 60}\ndestinations:",
		"        take: [photo]\n", "        take: [photo]\n        send: quick\n")
}

// on reads an item's copy on a shelf.
func (y *yard) on(name string, shelf plan.Shelf) (records.Copy, bool) {
	y.t.Helper()
	main := y.copy(name)
	of, err := y.records.Catalogue.CopiesOf(context.Background(), []int64{main.Item})
	require.NoError(y.t, err)
	for _, c := range of[main.Item] {
		if c.Shelf == shelf {
			return c, true
		}
	}
	return records.Copy{}, false
}

// below lists the files below a folder of the storage.
func (y *yard) below(folder string) (files []string) {
	y.t.Helper()
	root := filepath.Join(y.dir, "locker", folder)
	require.NoError(y.t, filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
		if os.IsNotExist(err) {
			return nil
		}
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(root, p)
			files = append(files, filepath.ToSlash(rel))
		}
		return err
	}))
	return files
}

func TestASmallCopyGoesFirstAndIsRemovedWhenTheWholeIsSafe(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.quickly()
	y.large("a.jpg", 1)
	y.large("b.jpg", 2)
	y.until("found", func(s wire.Device) bool { return total(s.States) == 2 })
	y.sensor.Put(away)
	s := y.until("safe in small", func(s wire.Device) bool { return s.InSmall.N == 2 })
	assert.EqualValues(t, 2, s.States[queue.Waiting].N, "which is not safe")
	assert.Zero(t, s.States[queue.Safe].N)
	assert.Zero(t, s.Partly.N)
	assert.True(t, heldBy(gate.Network, 2)(s), "the whole waits for Wi-Fi: %+v", s.Holds)
	small, _ := y.on("a.jpg", plan.Small)
	assert.Equal(t, "small/2026/03/a.jpg", small.Remote)
	w, h := y.pixels(small)
	assert.Equal(t, 200, max(w, h))
	assert.ElementsMatch(t, []string{"2026/03/a.jpg", "2026/03/b.jpg"}, y.below("small"))
	assert.Empty(t, y.below("2026"))
	page, err := y.device.Told.Items(t.Context(), wire.Filter{Limit: 5})
	require.NoError(t, err)
	assert.True(t, page[0].InSmall)
	assert.Equal(t, "Waits for locker, safe in small at locker.", page[0].Says)
	spent, err := y.records.Ledger.Account(t.Context(), plan.Cellular, time.Now().Add(-time.Hour), false)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, spent.Spent, 2*2*small.Bytes, "reading back is counted, too")

	y.sensor.Put(home)
	y.until("safe", func(s wire.Device) bool { return s.States[queue.Safe].N == 2 && s.InSmall.N == 0 })
	require.Eventually(t, func() bool { return len(y.below("small")) == 0 }, time.Minute, 10*time.Millisecond)
	require.Eventually(t, func() bool { // what was removed is on record a moment later
		a, _ := y.on("a.jpg", plan.Small)
		b, _ := y.on("b.jpg", plan.Small)
		return a.State == queue.Skipped && b.State == queue.Skipped
	}, time.Minute, 10*time.Millisecond)
	assert.ElementsMatch(t, []string{"03/a.jpg", "03/b.jpg"}, y.below("2026"))
	assert.Contains(t, y.story("a.jpg"), "Removed: the whole of it is safe there as 2026/03/a.jpg.")
	y.whole()

	// What is small already goes as it is, and is there once in the end.
	y.sensor.Put(none)
	tiny, err := standin.JPEG(7, 150, time.Date(2026, 3, 1, 10, 7, 0, 0, time.UTC))
	require.NoError(t, err)
	y.file("tiny.jpg", tiny)
	y.until("found", func(s wire.Device) bool { return total(s.States) == 3 })
	y.sensor.Put(away)
	y.until("safe in small", func(s wire.Device) bool { return s.InSmall.N == 1 })
	c, _ := y.on("tiny.jpg", plan.Small)
	assert.Equal(t, hash(tiny), c.SHA256)
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 3))
	require.Eventually(t, func() bool { return len(y.below("small")) == 0 }, time.Minute, 10*time.Millisecond)
	y.whole()

	// What is safe when it is found needs no small one, and none is sent beside what goes whole.
	y.large("c.jpg", 3)
	y.until("safe", counts(queue.Safe, 4))
	c, _ = y.on("c.jpg", plan.Small)
	assert.Equal(t, queue.Skipped, c.State)
	assert.Empty(t, c.Remote)
}

func TestASmallCopyThatSomebodyChangedStays(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.quickly()
	y.large("a.jpg", 1)
	y.large("b.jpg", 2)
	y.until("found", func(s wire.Device) bool { return total(s.States) == 2 })
	y.sensor.Put(away)
	y.until("safe in small", func(s wire.Device) bool { return s.InSmall.N == 2 })
	changed := filepath.Join(y.dir, "locker/small/2026/03/a.jpg")
	require.NoError(t, os.WriteFile(changed, []byte("grandmother's own"), 0o644))
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 2))
	require.Eventually(t, func() bool {
		a, _ := y.on("a.jpg", plan.Small)
		b, _ := y.on("b.jpg", plan.Small)
		return a.State == queue.Skipped && b.State == queue.Skipped
	}, time.Minute, 10*time.Millisecond)
	content, err := os.ReadFile(changed)
	require.NoError(t, err)
	assert.Equal(t, "grandmother's own", string(content))
	assert.Equal(t, []string{"2026/03/a.jpg"}, y.below("small"))
	assert.Contains(t, y.story("a.jpg"), "is not what was put there: it stays")
}

func TestASmallCopyStaysWhileTheWholeIsNotThere(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.quickly()
	y.large("a.jpg", 1)
	y.clip("stays.mp4")
	y.until("found", func(s wire.Device) bool { return total(s.States) == 2 })
	y.sensor.Put(away)
	y.until("safe in small", func(s wire.Device) bool { return s.InSmall.N == 1 })
	y.sensor.Put(none)
	require.NoError(t, os.Remove(filepath.Join(y.dir, "phone/DCIM/a.jpg")))
	y.until("gone", func(s wire.Device) bool { return s.States[queue.Skipped].N == 1 })
	y.sensor.Put(home)
	time.Sleep(300 * time.Millisecond) // it has its chance
	assert.Equal(t, []string{"2026/03/a.jpg"}, y.below("small"), "it is all that there is")
	c, _ := y.on("a.jpg", plan.Small)
	assert.Equal(t, queue.Safe, c.State)
}

func TestPreviewsLieBesideInAFolderOfTheirOwn(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.follow("destinations:", "renditions:\n  tiny: {long-edge: 200}\ndestinations:", "    to: [locker]\n",
		"    to: [locker]\n    previews: tiny\n")
	y.large("a.jpg", 1)
	small, err := standin.JPEG(3, 150, time.Date(2026, 3, 1, 10, 3, 0, 0, time.UTC))
	require.NoError(t, err)
	y.file("small.jpg", small)
	y.clip("sail.mp4")
	y.until("safe", counts(queue.Safe, 3))
	s := y.until("previews", func(s wire.Device) bool { return len(s.Beside) == 1 && s.Beside[0].There.N == 1 })
	assert.Equal(t, "1 preview there.", s.Beside[0].Says)
	assert.Equal(t, []string{"2026/03/a.jpg"}, y.below("previews"), "of what is small already there is none, nor of clips")
	c, _ := y.on("a.jpg", plan.Preview)
	w, h := y.pixels(c)
	assert.Equal(t, 200, max(w, h))
	main := y.copy("a.jpg")
	assert.Equal(t, main.Size, main.Bytes)
	assert.EqualValues(t, 3, total(s.States), "items are counted, not what lies beside")
	none, _ := y.on("small.jpg", plan.Preview)
	assert.Equal(t, queue.Skipped, none.State)
	assert.Contains(t, none.Says, "it is within the limits")
}

func TestPicksAreCopiedByTheStorageUnderNamesThatSayWhatTheyShow(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	also := `    to: [locker]
    also:
      - {when: rated 4, layout: "best/{year}/{name}"}
      - {when: captioned, layout: "picks/{year}/{caption}"}
      - {when: keyword Regatta, layout: "regatta/{name}"}
`
	y.large("a.jpg", 1)
	y.large("b.jpg", 2)
	y.until("safe", counts(queue.Safe, 2))
	y.file("a.xmp", []byte(sidecar("Launching the Wren", 5, "boats", "regatta")))
	y.follow("    to: [locker]\n", also)
	y.until("picked", func(s wire.Device) bool { return len(s.Beside) == 1 && s.Beside[0].There.N == 3 })
	assert.Equal(t, []string{"2026/a.jpg"}, y.below("best"))
	assert.Equal(t, []string{"2026/Launching the Wren.jpg"}, y.below("picks"))
	assert.Equal(t, []string{"a.jpg"}, y.below("regatta"))
	assert.Contains(t, y.story("a.jpg"), "The storage copies what is safe there as 2026/03/a.jpg.")
	main := y.copy("a.jpg")
	pick, _ := y.on("a.jpg", plan.PickShelf("best/{year}/{name}"))
	assert.Equal(t, main.SHA256, pick.SHA256)
	assert.Zero(t, pick.Sent, "it does not travel twice")
	assert.Equal(t, queue.Safe, pick.State)

	// A mark that is given later counts, too.
	y.file("b.jpg.xmp", []byte(sidecar("", 4)))
	y.until("picked", func(s wire.Device) bool { return s.Beside[0].There.N == 4 })
	assert.ElementsMatch(t, []string{"2026/a.jpg", "2026/b.jpg"}, y.below("best"))
	later, _ := y.on("b.jpg", plan.PickShelf("best/{year}/{name}"))
	assert.Zero(t, later.Sent)
}

// sidecar is one as programs write them.
func sidecar(caption string, rating int, keywords ...string) string {
	words := ""
	for _, k := range keywords {
		words += "<rdf:li>" + k + "</rdf:li>"
	}
	return `<?xpacket begin="" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmlns:dc="http://purl.org/dc/elements/1.1/" xmp:Rating="` + string(rune('0'+rating)) + `">
<dc:description><rdf:Alt><rdf:li xml:lang="x-default">` + caption + `</rdf:li></rdf:Alt></dc:description><dc:subject><rdf:Bag>` + words + `</rdf:Bag></dc:subject>
</rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>`
}

func TestAClashIsSkippedWhereTheRuleSaysSo(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	require.NoError(t, os.MkdirAll(y.dir+"/locker/2026/03", 0o755))
	require.NoError(t, os.WriteFile(y.dir+"/locker/2026/03/a.jpg", []byte("another's"), 0o644))
	y.follow("    to: [locker]\n", "    to: [locker]\n    on-clash: skip\n")
	y.picture("a.jpg", 1)
	y.until("skipped", counts(queue.Skipped, 1))
	assert.Contains(t, y.story("a.jpg"), "Something else has the name 2026/03/a.jpg there, and the rule everyday "+
		"skips such.")
	content, err := os.ReadFile(y.dir + "/locker/2026/03/a.jpg")
	require.NoError(t, err)
	assert.Equal(t, "another's", string(content))
	assert.Equal(t, []string{"03/a.jpg"}, y.below("2026"))
}

func TestHEICGoesAsShotAndAsJPEGBeside(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.follow("destinations:", "renditions:\n  open: {format: both, long-edge: 200}\ndestinations:", "    to: [locker]\n",
		"    to: [locker]\n    send: {photo: open}\n")
	picture, err := standin.JPEG(1, 400, time.Date(2026, 3, 1, 10, 1, 0, 0, time.UTC))
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/a.jpg", picture, 0o644))
	out, err := exec.CommandContext(t.Context(), "heif-enc", dir+"/a.jpg", "-o", dir+"/a.heic").CombinedOutput()
	require.NoError(t, err, "%s", out)
	heic, err := os.ReadFile(dir + "/a.heic")
	require.NoError(t, err)
	y.file("IMG_1.HEIC", heic)
	y.large("b.jpg", 2)
	y.until("safe", counts(queue.Safe, 2))
	y.until("beside", func(s wire.Device) bool { return len(s.Beside) == 1 && s.Beside[0].There.N == 1 })
	assert.ElementsMatch(t, []string{"03/IMG_1.HEIC", "03/IMG_1.jpg", "03/b.jpg"}, y.below("2026"))
	main := y.copy("IMG_1.HEIC")
	assert.Equal(t, hash(heic), main.SHA256, "as shot")
	assert.Contains(t, y.story("IMG_1.HEIC"), "It goes as shot: a JPEG of it goes beside.")
	beside, _ := y.on("IMG_1.HEIC", plan.Beside)
	w, h := y.pixels(beside)
	assert.Equal(t, 200, max(w, h))
	w, h = y.pixels(y.copy("b.jpg"))
	assert.Equal(t, 200, max(w, h), "others keep to the limits")
	_, there := y.on("b.jpg", plan.Beside)
	assert.False(t, there)
}

func TestWhatWouldTellThePlaceIsStuckAndNotSent(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.follow("destinations:", "renditions:\n  quiet: {facts: no place}\ndestinations:", "    to: [locker]\n",
		"    to: [locker]\n    send: {photo: quiet}\n")
	whole, err := standin.JPEG(5, 900, time.Date(2026, 3, 1, 10, 5, 0, 0, time.UTC))
	require.NoError(t, err)
	y.file("cut.jpg", whole[:len(whole)/2])
	y.picture("a.jpg", 1)
	y.until("one each", func(s wire.Device) bool { return s.States[queue.Safe].N == 1 && s.States[queue.Stuck].N == 1 })
	c := y.copy("cut.jpg")
	assert.Empty(t, c.Remote)
	assert.Contains(t, c.Says, "It is not sent: what it tells cannot be taken out of it, as it is cut short or damaged.")
	assert.NotEmpty(t, c.Todo)
	assert.Equal(t, []string{"03/a.jpg"}, y.below("2026"))
}

func TestAFileKeepsItsTimeWhereTheStorageCan(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"folder", "sftp"} {
		t.Run(kind, func(t *testing.T) {
			open, root := real[kind](t)
			h := newHouse(t, kind, "", "", open, "phone")
			content, err := standin.JPEG(1, 200, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC))
			require.NoError(t, err)
			h.file("phone", "a.jpg", content)
			h.file("phone", "large.jpg", long(t, 400_000))
			h.until("phone", "safe", counts(queue.Safe, 2))
			for _, name := range []string{"a.jpg", "large.jpg"} {
				info, err := os.Stat(filepath.Join(root, h.copy("phone", name).Remote))
				require.NoError(t, err)
				assert.Equal(t, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC), info.ModTime().UTC(), name)
			}
		})
	}
}

func TestRealStoragesCopyPicksByThemselves(t *testing.T) {
	t.Parallel()
	for kind, open := range real {
		t.Run(kind, func(t *testing.T) {
			driver, root := open(t)
			h := newHouse(t, kind, "", "    also: [{when: rated 4, layout: \"best/{year}/{caption}\"}]", driver, "phone")
			content, err := standin.JPEG(1, 600, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC))
			require.NoError(t, err)
			h.file("phone", "a.xmp", []byte(sidecar("It's the Wren", 5)))
			h.file("phone", "a.jpg", content)
			h.until("phone", "picked", func(s wire.Device) bool { return len(s.Beside) == 1 && s.Beside[0].There.N == 1 })
			there, err := os.ReadFile(filepath.Join(root, "best/2026/It's the Wren.jpg"))
			require.NoError(t, err)
			assert.Equal(t, hash(content), hash(there))
			assert.Contains(t, h.story("phone", "a.jpg"), "Copied at the storage as best/2026/It's the Wren.jpg")
		})
	}
}

// TestOnlyWhatACopyItselfPutThereIsRemoved has files with the very bytes of a small copy lie
// there before it, and links and folders stand in place of others.
func TestOnlyWhatACopyItselfPutThereIsRemoved(t *testing.T) {
	t.Parallel()
	first := setup(t, none)
	first.quickly()
	first.large("a.jpg", 1)
	first.until("found", func(s wire.Device) bool { return total(s.States) == 1 })
	first.sensor.Put(away)
	first.until("safe in small", func(s wire.Device) bool { return s.InSmall.N == 1 })
	bytes, err := os.ReadFile(first.dir + "/locker/small/2026/03/a.jpg")
	require.NoError(t, err)

	y := setup(t, none)
	y.quickly()
	theirs := filepath.Join(y.dir, "locker/small/2026/03")
	require.NoError(t, os.MkdirAll(theirs, 0o755))
	require.NoError(t, os.WriteFile(theirs+"/a.jpg", bytes, 0o644))
	require.NoError(t, os.WriteFile(theirs+"/a somebody's.jpg", bytes, 0o644))
	names := []string{"a.jpg", "b.jpg", "c.jpg", "d.jpg"}
	for i, name := range names {
		y.large(name, i+1)
	}
	y.until("found", func(s wire.Device) bool { return total(s.States) == 4 })
	y.sensor.Put(away)
	y.until("safe in small", func(s wire.Device) bool { return s.InSmall.N == 4 })
	precious := filepath.Join(y.dir, "precious")
	require.NoError(t, os.WriteFile(precious, bytes, 0o644))
	require.NoError(t, os.Remove(theirs+"/b.jpg"))
	require.NoError(t, os.Symlink(precious, theirs+"/b.jpg"))
	require.NoError(t, os.Remove(theirs+"/c.jpg"))
	require.NoError(t, os.MkdirAll(theirs+"/c.jpg/album", 0o755))
	y.sensor.Put(home)
	for _, name := range names {
		require.Eventually(t, func() bool { c, _ := y.on(name, plan.Small); return c.State == queue.Skipped },
			time.Minute, 10*time.Millisecond, "%s: %v", name, y.story(name))
	}
	assert.FileExists(t, theirs+"/a.jpg", "it was there before")
	assert.FileExists(t, theirs+"/a somebody's.jpg")
	assert.FileExists(t, precious)
	assert.DirExists(t, theirs+"/c.jpg/album")
	assert.NoFileExists(t, theirs+"/d.jpg", "what stands in place of others holds up nothing")
	for _, name := range []string{"b.jpg", "c.jpg"} {
		assert.Contains(t, y.story(name), "stays", name)
	}
	assert.Len(t, y.below("2026"), 4)
}
