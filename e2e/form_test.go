package e2e

import (
	"encoding/json"
	"fmt"
	"image/jpeg"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/e2e/browser"
	"yardtide/standin"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// Pictures that go smaller than as shot, seen before it is decided, by real processes.

// shots puts large pictures into a folder.
func shots(t *testing.T, dir, name string, n int) {
	t.Helper()
	for i := range n {
		content, err := standin.JPEG(i, 1000, time.Date(2026, 5, 1, 0, i, 0, 0, time.UTC))
		require.NoError(t, err)
		file := fmt.Sprintf("%s/%s-%03d.jpg", dir, name, i)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(file, append(content, name...), 0o644))
		past := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(file, past, past))
	}
}

func longEdge(t *testing.T, file string) int {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	c, err := jpeg.DecodeConfig(f)
	require.NoError(t, err)
	return max(c.Width, c.Height)
}

func TestAFormIsSeenThenChosenThenSent(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	shots(t, dir+"/in", "first", 3)
	s.until("as shot", func(y wire.Yard) bool { return total(y, queue.Safe) == 3 })

	assert.Contains(t, s.ok("rendition", "list"), "None: everything goes as shot.")
	file := dir + "/in/first-001.jpg"
	out := s.ok("try", file, "-long-edge", "400", "-rule", "all", "-o", dir+"/small.jpg")
	assert.Contains(t, out, "1000 px on the longer edge")
	assert.Contains(t, out, "400 px on the longer edge")
	assert.Regexp(t, `3 pictures: as shot [0-9.]+ [kM]B; so [0-9.]+ kB; disk has .* free\. By 3 of them that were made\.`,
		out)
	assert.Equal(t, 400, longEdge(t, dir+"/small.jpg"))
	var told struct{ AsShot, Made planwire.FormSize }
	require.NoError(t, json.Unmarshal([]byte(s.ok("try", file, "-megapixels", "0.05", "-json")), &told))
	assert.LessOrEqual(t, told.Made.Width*told.Made.Height, 50_000)
	assert.Less(t, told.Made.Bytes, told.AsShot.Bytes)
	assert.Contains(t, s.ok("try", file, "-long-edge", "5000"), "It would go as shot: it is within the limits.")
	for says, args := range map[string][]string{
		"is no picture":         {dir + "/plan.yaml", "-long-edge", "400"},
		"no such file":          {dir + "/none.jpg", "-long-edge", "400"},
		`no rendition "family"`: {file, "-as", "family"},
		"long-edge is not such a number; would be a number from 16": {file, "-long-edge", "3"},
		"quality is not such a number; would be a number from 30":   {file, "-long-edge", "400", "-quality", "500"},
		"and not both":                {file, "-as", "family", "-long-edge", "400"},
		"say try and one file":        {"-long-edge", "400"},
		"exists":                      {file, "-long-edge", "400", "-o", dir + "/small.jpg"},
		"a number such as 3":          {file, "-megapixels", "many"},
		"would be a number such as 3": {file, "-megapixels", "NaN"},
		"opening the picture":         {dir, "-long-edge", "400"},
		"from 0.01 to 1000":           {file, "-megapixels", "-2"},
	} {
		_, errOut, code := s.run(append([]string{"try"}, args...)...)
		assert.NotZero(t, code, args)
		assert.Contains(t, errOut, says, args)
	}

	assert.Contains(t, s.ok("rendition", "set", "family", "-long-edge", "400"),
		"family is a new rendition: at most 400 px, quality 82.")
	assert.Contains(t, s.ok("rule", "set", "all", "-send", "photo=family"), "photos as family")
	assert.Contains(t, s.ok("rendition", "list"), "family: at most 400 px, quality 82; used by all.")
	for says, args := range map[string][]string{
		"the rule all sends as family": {"rendition", "remove", "family"}, "cannot be the name": {"rendition", "set", "a b",
			"-long-edge", "400"}, "say what it asks for: -": {"rendition", "set", "web"},
		"say a kind and a rendition": {"rule", "set", "all", "-send", "photo"}, `no rendition "none"`: {"rule", "set", "all",
			"-send", "photo=none"}, "and takes none": {"rule", "set", "all", "-send", "video=family"},
		"no kind that is reduced": {"rule", "set", "all", "-send", "raw=family"},
	} {
		_, errOut, code := s.run(args...)
		assert.NotZero(t, code, args)
		assert.Contains(t, errOut, says, args)
	}
	shots(t, dir+"/in/more", "second", 4)
	s.until("the new ones are safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 7 })
	sent, err := filepath.Glob(dir + "/disk/*/*/*.jpg")
	require.NoError(t, err)
	require.Len(t, sent, 7)
	for _, file := range sent {
		want := 1000 // what was sent before stays
		if strings.HasPrefix(filepath.Base(file), "second") {
			want = 400
		}
		assert.Equal(t, want, longEdge(t, file), file)
	}
	assert.Contains(t, s.ok("why", "second-002.jpg"), "Reduced to 400 × 300 pixels (at most 400 px, quality 82)")

	// On the page, with a divider that keys move.
	k := atTheConsole(t, s)
	k.click("Queue", "second-002.jpg")
	k.sees("Form", "reduced, ")
	k.click("See it smaller")
	k.sees("Longer edge, pixels")
	k.click("Show both")
	k.sees("400 px on the longer edge", "By the rule all.", "7 pictures: as shot")
	drawn := func() bool {
		n, err := browser.Eval[int](k.b, `[...document.querySelectorAll("[role=img] canvas")].filter(c => c.width > 0 && c.getContext("2d").getImageData(9, 9, 1, 1).data[3] > 0).length`)
		require.NoError(t, err)
		return n == 2
	}
	require.Eventually(t, drawn, time.Minute, 50*time.Millisecond)
	_, err = browser.Eval[bool](k.b, `document.querySelector("[type=range]").focus(), true`)
	require.NoError(t, err)
	for range 3 {
		require.NoError(t, k.b.Press("\u0303"))
	}
	at, err := browser.Eval[string](k.b, `document.querySelector("[type=range]").value`)
	require.NoError(t, err)
	assert.Equal(t, "53", at)
	k.click("Close the comparison")

	// A picture that cannot be read now is told, and what a stranger asks is refused.
	key := one(t, s, "second-002.jpg")
	require.NoError(t, os.Rename(dir+"/in/more", dir+"/away"))
	for body, code := range map[string]int{
		`{"name": "family", "x": 0.5, "y": 0.5}`:              409,
		`{"name": "none", "x": 0.5, "y": 0.5}`:                409,
		`{"form": {"long-edge": 3}, "x": 0.5, "y": 0.5}`:      409,
		`{"form": {"long-edge": 99999999}, "x": 0, "y": 0}`:   409,
		`{"form": {"long-edge": 400}, "x": 7, "y": 0.5}`:      422,
		`{"form": {"long-edge": "wide"}, "x": 0, "y": 0}`:     409,
		`{"form": {"boat": 3}, "x": 0, "y": 0}`:               409,
		`{"form": {"long-edge": 400}, "x": 0, "y": 0, "z":1}`: 422,
		`[`: 400,
	} {
		got, text := s.call("POST", "/api/v1/items/desk/"+key+"/compare", body,
			map[string]string{"Authorization": "Bearer " + s.token()})
		assert.Equal(t, code, got, "%s: %s", body, text)
	}
	got, _ := s.call("POST", "/api/v1/items/desk/"+key+"/compare", `{"name": "family", "x": 0.5, "y": 0.5}`, nil)
	assert.Equal(t, 401, got)
	got, _ = s.call("POST", "/api/v1/items/desk/none-9/compare", `{"name": "family", "x": 0.5, "y": 0.5}`,
		map[string]string{"Authorization": "Bearer " + s.token()})
	assert.Equal(t, 404, got)
}

// As shot where there is room, smaller in the small storage: by a command and on the page, of a device elsewhere.
func TestEachPlaceHasAFormOfItsOwn(t *testing.T) {
	t.Parallel()
	s, dir, _ := slip(t)
	require.NoError(t, os.Mkdir(dir+"/attic", 0o755))
	text := strings.Replace(s.ok("plan", "show"), "destinations:\n", "renditions: {family: {long-edge: 400}}\n"+
		"destinations:\n  attic: {kind: folder, path: "+dir+"/attic}\n  full: {kind: folder, path: "+dir+
		"/full}\n", 1)
	file := dir + "/with-attic.yaml"
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	s.ok("plan", "apply", file)
	shots(t, dir+"/galley-phone/DCIM", "a", 4)
	d := joins(t, s, dir, "galley-phone", "")
	assert.Contains(t, s.ok("rule", "set", "everyday", "-to", "shed, attic as family", "-try"),
		"What follows everyday also goes to attic as family.")
	for wrong, says := range map[string]string{"shed, attic as tiny": `there is no rendition "tiny"`,
		"shed as family, shed": "stands here twice", "shed, loft as family": `there is no destination "loft"`} {
		_, errOut, code := s.run("rule", "set", "everyday", "-to", wrong)
		assert.Equal(t, 1, code, wrong)
		assert.Contains(t, errOut, says, wrong)
	}
	s.ok("rule", "set", "everyday", "-to", "shed, attic as family")
	check := func() string {
		require.NoError(t, os.WriteFile(file, []byte(s.ok("plan", "show")), 0o644))
		return s.ok("plan", "check", file)
	}
	assert.NotContains(t, check(), "as shot to no place")
	assert.Contains(t, s.ok("rule", "list"), "go to shed and attic as family")
	d.start()
	s.until("all are safe", safe("galley-phone", 4))
	for place, edge := range map[string]int{"shed": 1000, "attic": 400} {
		sent, err := filepath.Glob(dir + "/" + place + "/*/*/a-*.jpg")
		require.NoError(t, err)
		require.Len(t, sent, 4, place)
		for _, file := range sent {
			assert.Equal(t, edge, longEdge(t, file), file)
		}
	}
	tried := s.ok("rule", "set", "everyday", "-to", "shed, attic as family, full as family", "-try")
	assert.Regexp(t, `4 files are to come to full, [0-9.]+ kB as shot, and [0-9.]+ kB( to [0-9.]+ kB)? as they go;`,
		tried, "a few are made to tell, where they may not fit")

	k := atTheConsole(t, s)
	k.click("Plan", "shed and attic as family (change it, everyday)")
	k.sees("Form at attic", "Form at shed")
	k.choose("Form at shed", "family")
	k.sees("What follows everyday goes to shed as family from now on; what is stored there stays.",
		"Photos of everyday go as shot to no place")
	k.click("Put it in force")
	require.Eventually(t, func() bool { return strings.Contains(s.ok("plan", "show"), "shed as family, attic as family") },
		time.Minute, 100*time.Millisecond)
	assert.Contains(t, check(), "Photos of everyday go as shot to no place")
}

func TestADeviceElsewhereSendsInAForm(t *testing.T) {
	t.Parallel()
	s, dir, _ := slip(t)
	shots(t, dir+"/galley-phone/DCIM", "a", 6)
	d := joins(t, s, dir, "galley-phone", "")
	d.start()
	s.ok("rendition", "set", "family", "-megapixels", "0.1")
	s.ok("rule", "set", "everyday", "-send", "photo=family")
	s.until("all are safe", safe("galley-phone", 6))
	shots(t, dir+"/galley-phone/DCIM", "b", 6)
	s.until("all are safe", safe("galley-phone", 12))
	sent, err := filepath.Glob(dir + "/shed/*/*/b-*.jpg")
	require.NoError(t, err)
	require.Len(t, sent, 6)
	for _, file := range sent {
		assert.Less(t, longEdge(t, file), 380)
	}
	// It is shown from there, and told by a sample of what is there.
	c, err := s.client().Plans().CompareForm(t.Context(), "galley-phone", one(t, s, "b-003.jpg"),
		planwire.FormTry{Form: planwire.Form{Name: "family"}, X: 0.5, Y: 0.5})
	require.NoError(t, err)
	assert.Equal(t, 1000, c.AsShot.Width)
	assert.NotEmpty(t, c.Before)
	assert.NotEmpty(t, c.After)
	f, err := s.client().Plans().ForecastForm(t.Context(),
		planwire.FormAsked{Form: planwire.Form{Name: "family"}, Rule: "everyday", Kind: "photo"})
	require.NoError(t, err)
	assert.EqualValues(t, 12, f.All.N)
	assert.Equal(t, 12, f.Looked)
	// Silent, it is left out, and that is said.
	d.stop()
	s.stop()
	heardBefore(t, s, "galley-phone", time.Hour)
	s.start()
	f, err = s.client().Plans().ForecastForm(t.Context(), planwire.FormAsked{Form: planwire.Form{Name: "family"},
		Kind: "photo"})
	require.NoError(t, err)
	assert.Equal(t, []string{"galley-phone"}, f.Missing)
	s.stop()
	agree(t, s, d, "galley-phone")
}
