package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/wire"
)

// What lies beside the copies, what belongs together and what it is called, by real
// processes.

// likes puts a sidecar beside a picture, as programs write them.
func likes(t *testing.T, file, caption string) {
	t.Helper()
	text := `<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmlns:dc="http://purl.org/dc/elements/1.1/" xmp:Rating="5"><dc:description><rdf:Alt><rdf:li xml:lang="x-default">` + caption + `</rdf:li></rdf:Alt></dc:description></rdf:Description></rdf:RDF></x:xmpmeta>`
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(file, past, past))
}

// besides tells whether so many lie on a shelf of a device.
func besides(device string, on plan.Shelf, n int64) func(wire.Yard) bool {
	return func(y wire.Yard) bool {
		for _, d := range y.Devices {
			for _, b := range d.Beside {
				if d.Name == device && (b.Shelf == on || on.IsPick() && b.Shelf.IsPick()) {
					return b.There.N == n
				}
			}
		}
		return n == 0
	}
}

func TestPreviewsPicksAndNamesFromTheTerminalAndTheConsole(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	shots(t, dir+"/in", "wren", 3)
	likes(t, dir+"/in/wren-001.xmp", "Launching the Wren")
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 3 })
	why := ""
	require.Eventually(t, func() bool { // the sidecar may be found after its picture
		why, _, _ = s.run("why", "wren-001.xmp")
		return strings.Contains(why, "safe      at disk (wren-001.xmp): 2026/05/wren-001.xmp")
	}, time.Minute, 100*time.Millisecond)
	assert.Contains(t, why, "with wren-001.xmp, document")

	s.ok("rendition", "set", "tiny", "-long-edge", "200", "-facts", "no place")
	assert.Contains(t, s.ok("rendition", "list"), "tiny: at most 200 px, without the place, quality 82")
	said := s.ok("rule", "set", "all", "-previews", "tiny", "-also", "rated 4 = best/{year}/{caption}")
	assert.Contains(t, said, "previews as tiny beside; what is rated 4 or better also goes to best/{year}/{caption}")
	s.until("previews", besides("desk", plan.Preview, 3))
	s.until("picks", besides("desk", plan.PickShelf(""), 1))
	assert.FileExists(t, dir+"/disk/best/2026/Launching the Wren.jpg")
	assert.Equal(t, 200, longEdge(t, dir+"/disk/previews/2026/05/wren-002.jpg"))
	assert.Contains(t, s.ok("why", "wren-001.jpg"), "a pick: best/2026/Launching the Wren.jpg")
	assert.Contains(t, s.ok("status"), "beside the copies: 1 pick there. 3 previews there.")

	for says, args := range map[string][]string{
		"would be captioned":               {"rule", "set", "all", "-also", "liked = best/{name}"},
		"say a mark and a layout":          {"rule", "set", "all", "-also", "rated 4"},
		"does not end with what tells":     {"rule", "set", "all", "-also", "rated 4 = best/{year}"},
		`no rendition "none"`:              {"rule", "set", "all", "-previews", "none"},
		"the rule all sends as tiny":       {"rendition", "remove", "tiny"},
		"has no lane over cellular":        {"rule", "set", "all", "-quick", "tiny"},
		"raw, clip, sidecar or none":       {"rule", "set", "all", "-companions", "thumbs"},
		"name one rule":                    {"bursts"},
		`no rule "none"`:                   {"bursts", "none"},
		"the layout has an unknown":        {"destination", "layout", "disk", "{moon}/{name}"},
		"{caption} is for picks":           {"destination", "layout", "disk", "{caption}"},
		`no destination "loft"`:            {"destination", "layout", "loft", "{name}"},
		"name one destination and its":     {"destination", "layout", "disk"},
		"bitrate: ":                        {"rendition", "set", "films", "-bitrate", "fast"},
		"no place, time only":              {"rendition", "set", "films", "-facts", "none"},
		"name, skip":                       {"rule", "set", "all", "-on-clash", "replace"},
		"every lane of rule all carries s": {"rule", "set", "all", "-over", "cellular", "-quick", "tiny"},
	} {
		_, errOut, code := s.run(args...)
		assert.NotZero(t, code, args)
		assert.Contains(t, errOut, says, args)
	}
	assert.Contains(t, s.ok("bursts", "all"), "none")

	// Names are shown with one's own, and count for what comes then.
	shown := s.ok("destination", "layout", "disk", "{year}/{camera}/{sequence}", "-try")
	assert.Regexp(t, `wren-002\.jpg +2026/Stand-in Camera/002\.jpg`, shown)
	assert.Contains(t, shown, "both have one name there")
	assert.Contains(t, shown, "nothing is changed")
	s.ok("destination", "layout", "disk", "{year}/{camera}/{sequence}")
	shots(t, dir+"/in/more", "sail", 1)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 4 })
	assert.FileExists(t, dir+"/disk/2026/Stand-in Camera/000.jpg")
	assert.FileExists(t, dir+"/disk/2026/05/wren-000.jpg", "nothing is moved")

	// The same on the page.
	k := atTheConsole(t, s)
	k.click("Queue", "wren-001.jpg")
	k.sees("wren-001.xmp (document", "a pick", "best/2026/Launching the Wren.jpg", "a preview")
	k.click("Close")
	k.click("Destinations", "Change the names at disk")
	k.sees("So they would lie there", "2026/Stand-in Camera/002.jpg")
	require.NoError(t, k.b.Type("Of {year}", "{moon}/{name}"))
	k.sees("the layout has an unknown placeholder {moon}")
	require.NoError(t, k.b.Type("Of {year}", "{kind}/{name}"))
	k.sees("photo/wren-002.jpg")
	k.click("Name them so")
	k.sees("Lands as {kind}/{name}")
	k.click("Plan", "More that may be said of all", "A clip of shots in a row", "Show the bursts")
	k.sees("No shots in a row")
	k.click("A clip of shots in a row")
	k.sees("shots in a row become a clip beside")
	k.click("Put it in force")
	k.gone("No shots in a row") // what was open closes, and the words move
	k.click("what is rated 4 or better also goes to best/", "Pick by a mark")
	require.NoError(t, k.b.Type("Pick 2: what is", "keyword wren"))
	require.NoError(t, k.b.Type("Pick 2 also goes to", "wren/{name}"))
	k.sees(`what is marked "wren" also goes to wren/{name}`)
	k.click("Put it in force")
	require.Eventually(t, func() bool { return strings.Contains(s.ok("plan", "show"), "wren/{name}") }, 10*time.Second,
		100*time.Millisecond)
}

func TestADeviceElsewhereTellsWhatLiesBeside(t *testing.T) {
	t.Parallel()
	s, dir, _ := slip(t)
	shots(t, dir+"/galley-phone/DCIM", "a", 4)
	likes(t, dir+"/galley-phone/DCIM/a-001.xmp", "At low tide")
	d := joins(t, s, dir, "galley-phone", "")
	d.start()
	s.ok("rendition", "set", "tiny", "-long-edge", "200")
	s.ok("rule", "set", "everyday", "-previews", "tiny", "-also", "captioned = best/{caption}", "-bursts", "yes")
	s.until("all are safe", safe("galley-phone", 4))
	s.until("previews", besides("galley-phone", plan.Preview, 4))
	s.until("a pick", besides("galley-phone", plan.PickShelf(""), 1))
	best, err := filepath.Glob(dir + "/shed/best/*.jpg")
	require.NoError(t, err)
	require.Len(t, best, 1)
	assert.Equal(t, "At low tide.jpg", filepath.Base(best[0]))
	assert.Contains(t, s.ok("why", "a-001.xmp"), "with a-001.xmp, document")
	found, err := s.client().Plans().Bursts(t.Context(), "everyday")
	require.NoError(t, err)
	require.Len(t, found, 2, "the desk follows it, too")
	assert.Equal(t, []string{"", ""}, []string{found[0].Says, found[1].Says})
	assert.Empty(t, found[1].Bursts)
	agree(t, s, d, "galley-phone")
}
