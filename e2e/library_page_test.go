package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/e2e/browser"
	"yardtide/wire"
	"yardtide/wire/bringwire"
)

// The library by pointer and by keyboard: found, looked at, gone to, brought back.
func TestTheLibraryPage(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-items", "40", "-clips=false")
	s.phone(onWiFi)
	s.until("all safe", func(y wire.Yard) bool {
		return settled(y) && total(y, queue.Waiting, queue.Preparing, queue.Sending, queue.Proving) == 0
	})
	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Library")
	k.sees("pictures, ", "Go to", "Choose some")
	looks := looksIn(t, k)
	looks("the library")
	all := s.found()
	first, last := all[0], all[len(all)-1]
	k.sees(first.TakenAt.Format("January 2006"))
	// By keyboard: to the last, and opened.
	_, err := browser.Eval[bool](k.b, `(document.getElementById("face-0").focus(), true)`)
	require.NoError(t, err)
	require.NoError(t, k.b.Press(kb.End))
	k.sees(last.TakenAt.Format("January 2006"))
	require.Eventually(t, func() bool {
		label, err := browser.Eval[string](k.b, `document.activeElement?.getAttribute("aria-label") ?? ""`)
		return err == nil && strings.HasPrefix(label, last.Name+", ")
	}, time.Minute, 50*time.Millisecond, "the last has the focus")
	require.NoError(t, k.b.Press(kb.Enter))
	k.sees("Where it lies", "Download", last.Name, "north-locker", "http://127.0.0.1")
	looks("an item, large")
	require.Eventually(t, func() bool {
		wide, err := browser.Eval[float64](k.b, `document.querySelector("[role=dialog] img")?.naturalWidth ?? 0`)
		return err == nil && wide > 320
	}, time.Minute, 50*time.Millisecond, "it is shown as shot, and not as its small picture")
	require.NoError(t, k.b.Press(kb.Escape))
	k.gone("Where it lies")
	require.NoError(t, k.b.Press(kb.Home))
	k.sees(first.TakenAt.Format("January 2006"))
	// By the map: a press on a spot goes nearer, and narrows what is shown.
	placed := 0
	require.Eventually(t, func() bool { // headers are read for it once nothing is sent
		f, err := s.client().Library().Find(t.Context(), url.Values{})
		require.NoError(t, err)
		placed = f.Placed
		return placed == len(s.found("-device", "galley-phone", "-kind", "photo"))
	}, time.Minute, 200*time.Millisecond)
	k.sees("Map")
	k.click("Map")
	k.sees(fmt.Sprintf("%d pictures tell where they were taken", placed))
	looks("the map")
	_, err = browser.Eval[bool](k.b, `(document.querySelector('[aria-label*="around 5"]').click(), true)`)
	require.NoError(t, err)
	k.sees("The whole map", "that are known")
	address, err := browser.Eval[string](k.b, `location.search`)
	require.NoError(t, err)
	spot, err := url.ParseQuery(strings.TrimPrefix(address, "?"))
	require.NoError(t, err)
	box := strings.Trim(spot.Get("spot"), `"`)
	near := len(s.found("-spot", box))
	assert.Positive(t, near)
	assert.Less(t, near, placed)
	k.sees(fmt.Sprintf("%d picture", near))
	k.click("The whole map", "Map")
	// One that is gone from its device is shown from a place, and brought back to where it was.
	lost := filepath.Join(dir, "chart-table/Restoration")
	var gone string
	for _, it := range all {
		if it.Device == "chart-table" && it.Kind == "photo" && len(s.found(it.Name)) == 1 {
			gone = it.Name
			lost = filepath.Join(dir, "chart-table", it.Path)
			break
		}
	}
	before, err := os.ReadFile(lost)
	require.NoError(t, err)
	stamp, err := os.Stat(lost)
	require.NoError(t, err)
	require.NoError(t, os.Remove(lost))
	require.NoError(t, k.b.Type("Find", gone))
	require.Eventually(t, func() bool { return len(s.found("-where", "gone", gone)) == 1 }, time.Minute, 100*time.Millisecond)
	k.sees("1 picture, ")
	require.Eventually(t, func() bool { // the label of its face tells that it is gone
		is, err := browser.Eval[bool](k.b, `document.getElementById("face-0")?.getAttribute("aria-label").includes("no longer on its device") ?? false`)
		return err == nil && is
	}, time.Minute, 100*time.Millisecond)
	k.click("Choose some")
	_, err = browser.Eval[bool](k.b, `(document.getElementById("face-0").click(), true)`)
	require.NoError(t, err)
	k.sees("1 chosen")
	looks("one chosen")
	k.click("Bring back the 1 chosen")
	k.sees("Each to its own place", "would come from north-locker", "Nothing that is there is written over")
	looks("what bringing back would take")
	k.click("Bring it back")
	k.sees("1 picture or clip there")
	after, err := os.ReadFile(lost)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	info, err := os.Stat(lost)
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(stamp.ModTime()), "with its time")
	require.Eventually(t, func() bool {
		list := s.found(gone)
		return len(list) == 1 && !list[0].Gone && list[0].State == "safe"
	}, time.Minute, 100*time.Millisecond, "it is what it was, and there once")
	assert.Empty(t, k.b.Complaints())
}

// Items are given whole, one or many, with what they are called; a cut, or another content, is seen as one.
func TestItemsAreGivenWhole(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-clips=false")
	s.phone(onWiFi)
	s.until("all safe", func(y wire.Yard) bool {
		return settled(y) && total(y, queue.Waiting, queue.Preparing, queue.Sending, queue.Proving) == 0
	})
	get := func(path string) (*http.Response, []byte, error) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.url+path, nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+s.token())
		a, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		content, err := io.ReadAll(a.Body)
		require.NoError(t, a.Body.Close())
		return a, content, err
	}
	var it, other = s.found("-device", "chart-table", "-kind", "photo", "-at", "north-locker")[0], s.found("-device", "galley-phone", "-kind", "photo", "-at", "north-locker")[0]
	at := fmt.Sprintf("/api/v1/items/%s/%s/original", it.Device, it.Key)
	file := filepath.Join(dir, it.Device, it.Path)
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	a, content, err := get(at)
	require.NoError(t, err)
	assert.Equal(t, want, content)
	assert.Contains(t, a.Header.Get("Content-Disposition"), "attachment")
	assert.Equal(t, "application/octet-stream", a.Header.Get("Content-Type"))
	a, _, _ = get(at + "?show=true")
	assert.Equal(t, "image/jpeg", a.Header.Get("Content-Type"))
	assert.Contains(t, a.Header.Get("Content-Security-Policy"), "sandbox")
	// From a place, once it is gone from its device; with another content there it is not whole.
	require.NoError(t, os.Remove(file))
	_, content, err = get(at)
	require.NoError(t, err)
	assert.Equal(t, want, content)
	var order []byte
	order, err = json.Marshal(bringwire.BringAsked{Items: []bringwire.BringRef{{Device: it.Device, Key: it.Key}, {Device: other.Device, Key: other.Key}}})
	require.NoError(t, err)
	code, body := s.call("POST", "/api/v1/library/zip", string(order), map[string]string{"Authorization": "Bearer " + s.token()})
	require.Equal(t, 200, code, "%s", body)
	var z bringwire.ZipOrdered
	require.NoError(t, json.Unmarshal([]byte(body), &z))
	_, content, err = get("/api/v1/library/zip/" + z.ID)
	require.NoError(t, err)
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	require.Len(t, archive.File, 2)
	assert.Equal(t, it.Device+"/"+it.Path, archive.File[0].Name)
	r, err := archive.File[0].Open()
	require.NoError(t, err)
	inside, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, want, inside)
	var stories []wire.Story
	require.NoError(t, json.Unmarshal([]byte(s.ok("why", "-json", it.Name)), &stories))
	lies := filepath.Join(dir, "north-locker", stories[0].Item.Copies[0].Remote)
	bad := bytes.Clone(want)
	bad[len(bad)/2] ^= 1
	require.NoError(t, os.WriteFile(lies, bad, 0o644))
	_, content, err = get(at)
	assert.Error(t, err, "what lies there is not what was proven")
	assert.Less(t, len(content), len(want))
	for path, code := range map[string]int{"/api/v1/items/chart-table/none/original": 404, "/api/v1/items/nobody/" + it.Key + "/original": 404,
		"/api/v1/library/zip/none": 404, "/api/v1/items/galley-phone/" + it.Key + "/original": 404} {
		a, _, _ := get(path)
		assert.Equal(t, code, a.StatusCode, path)
	}
}
