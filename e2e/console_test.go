package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/e2e/browser"
	"yardtide/wire"
)

// keeper is a person at the console.
type keeper struct {
	t *testing.T
	b *browser.Browser
	s *service
}

// atTheConsole opens the console by its one-time link.
func atTheConsole(t *testing.T, s *service) keeper {
	t.Helper()
	b, err := browser.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	k := keeper{t, b, s}
	require.NoError(t, b.Open(s.link))
	return k
}

func (k keeper) click(labels ...string) {
	k.t.Helper()
	for _, l := range labels {
		require.NoError(k.t, k.b.Click(l))
	}
}

// sees waits until the page says something.
func (k keeper) sees(parts ...string) {
	k.t.Helper()
	var text string
	var err error
	for _, part := range parts {
		found := false
		for deadline := time.Now().Add(90 * time.Second); !found &&
			time.Now().Before(deadline); time.Sleep(30 * time.Millisecond) {
			text, err = k.b.Text() // it fails while the page changes to another
			found = err == nil && strings.Contains(text, part)
		}
		require.True(k.t, found, "the page never said %q but (%v):\n%s", part, err, text)
	}
}

// gone waits until the page no longer says something, as a dialog does that has closed.
// setTime sets the field for a time that has a label.
func (k keeper) setTime(label, value string) error {
	args, err := json.Marshal([]string{label, value})
	if err != nil {
		return err
	}
	_, err = browser.Eval[bool](k.b, `(([label, value]) => {
		const e = [...document.querySelectorAll("input[type=time]")].find((e) => e.labels?.[0]?.innerText === label);
		Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(e, value);
		return e.dispatchEvent(new Event("input", { bubbles: true }));
	})(`+string(args)+`)`)
	return err
}

// choose picks a value of the choice that has a label.
func (k keeper) choose(label, value string) {
	k.t.Helper()
	args, err := json.Marshal([]string{label, value})
	require.NoError(k.t, err)
	require.Eventually(k.t, func() bool {
		done, err := browser.Eval[bool](k.b, `(([label, value]) => {
			const e = [...document.querySelectorAll("select")].find((e) => e.labels?.[0]?.innerText === label);
			if (![...(e?.options ?? [])].some((o) => o.value === value)) return false;
			Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(e, value);
			return e.dispatchEvent(new Event("change", { bubbles: true }));
		})(`+string(args)+`)`)
		return err == nil && done
	}, time.Minute, 50*time.Millisecond, "no choice is labelled %q, with %q", label, value)
}

func (k keeper) gone(part string) {
	k.t.Helper()
	require.Eventually(k.t, func() bool {
		text, err := k.b.Text()
		return err == nil && !strings.Contains(text, part)
	}, time.Minute, 30*time.Millisecond, "the page says %q still", part)
}

func (k keeper) text() string {
	k.t.Helper()
	text, err := k.b.Text()
	require.NoError(k.t, err)
	return text
}

func TestTheKeeperAtTheConsole(t *testing.T) {
	s := demo(t, t.TempDir())
	k := atTheConsole(t, s)
	k.sees("Saltmarsh Slip", "galley-phone", "chart-table", "Gates", "Stand-in: simulated devices", "are safe")

	// The phone loses its network: its gates shut, and say why.
	k.click("None")
	k.sees("no network")
	k.click("Take a picture")
	k.sees("Waits for a network; the device has none.")

	// Paused, what waits says so; and the pause is the phone's alone.
	k.click("Pause galley-phone", "for an hour")
	k.sees("paused until", "Paused by you.")
	assert.False(t, s.yard().Devices[1].Pause.On)
	k.click("Resume")
	k.sees("Waits for a network; the device has none.")

	// From a hold to its copies, to one copy's story.
	k.click("Queue", "Held by", "network")
	k.sees("IMG_")
	assert.NotContains(t, k.text(), "safe\n")
	k.click("IMG_")
	k.sees("Its story", "Found on galley-phone.", "The device has no network; it goes first when there is one.")
	require.NoError(t, k.b.Press(kb.Escape))

	// Home again: everything goes, the story goes on by itself.
	s.phone(onWiFi)
	k.click("Now")
	s.until("the phone is safe", func(y wire.Yard) bool {
		p := y.Devices[0]
		return p.States[queue.Waiting].N+p.States[queue.Proving].N+p.States[queue.Sending].N+p.States[queue.Preparing].N == 0
	})
	k.click("Queue", "State", "safe")
	k.sees("Safe at north-locker.")
	require.Eventually(t, func() bool {
		n, err := browser.Eval[int](k.b, `[...document.images].filter(i => i.src.endsWith("/face") && i.naturalWidth > 99).length`)
		return err == nil && n > 3
	}, time.Minute, 100*time.Millisecond, "items have faces")
	k.click("IMG_")
	k.sees("Read back whole.", "read back, SHA-256")
	assert.Empty(t, k.b.Complaints(), "the browser has nothing to complain about, the security policy among it")
}

func TestSendNowSaysItsCostInTheConsole(t *testing.T) {
	s := demo(t, t.TempDir())
	k := atTheConsole(t, s)
	k.sees("Waits for Wi-Fi; the device is on cellular.")
	k.click("Queue", "Kind", "video", "MOV_")
	k.sees("of metered data over cellular")
	k.click("Send now")
	k.sees("Send it all the same?")
	assert.Equal(t, queue.Waiting, videoState(s), "asking sends nothing")
	k.click("Leave it waiting", "Send now", "Send 4")
	s.until("sent", func(wire.Yard) bool { return videoState(s) == queue.Proving })
	k.sees("Sent 4", "its proof is read back when a network is there that costs nothing")
}

func videoState(s *service) queue.State {
	s.t.Helper()
	p, err := s.client().Items(s.t.Context(), wire.Filter{Device: "galley-phone", Kind: "video"})
	require.NoError(s.t, err)
	require.Len(s.t, p.Items, 1)
	return queue.State(p.Items[0].State)
}

func TestStuckIsShownWithWhatToDo(t *testing.T) {
	dir := t.TempDir()
	s := demo(t, dir, "-clips=false")
	s.phone(offline)
	s.until("offline", func(y wire.Yard) bool { return y.Devices[0].Conditions.Network == plan.NoNetwork })
	// Its name is taken by a folder at the storage: what the storage refuses.
	require.NoError(t, os.RemoveAll(dir+"/north-locker/2027"))
	require.NoError(t, os.WriteFile(dir+"/north-locker/2027", []byte("in the way"), 0o644))
	at := time.Date(2027, 5, 5, 5, 5, 5, 0, time.UTC)
	file := dir + "/galley-phone/DCIM/Camera/stuck.png"
	png, err := os.ReadFile(firstPNG(t, dir))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(png, 'x'), 0o644))
	require.NoError(t, os.Chtimes(file, at, at))
	s.phone(onWiFi)
	k := atTheConsole(t, s)
	s.until("found", func(wire.Yard) bool {
		p, err := s.client().Find(t.Context(), "stuck.png")
		require.NoError(t, err)
		return len(p.Items) == 1 && (p.Items[0].State == "stuck" || p.Items[0].Copies[0].Tries+
			len(p.Items[0].Copies[0].Holds) > 0)
	})
	k.click("Queue")
	k.sees("stuck.png")
	k.click("stuck.png")
	k.sees("Its story", "2027")
	require.NoError(t, os.Remove(dir+"/north-locker/2027"))
	s.ok("retry")
	s.until("mended", func(wire.Yard) bool { return strings.Contains(s.ok("why", "stuck.png"), "Read back whole.") })
	k.sees("Read back whole.")
}

func firstPNG(t testing.TB, dir string) string {
	t.Helper()
	entries, err := os.ReadDir(dir + "/galley-phone/DCIM/Screens")
	require.NoError(t, err)
	require.NotEmpty(t, entries)
	return dir + "/galley-phone/DCIM/Screens/" + entries[0].Name()
}

func TestALostServiceIsSaidAndFoundAgain(t *testing.T) {
	s := demo(t, t.TempDir(), "-clips=false")
	k := atTheConsole(t, s)
	k.sees("Live", "galley-phone")
	s.kill()
	k.sees("The service does not answer since", "galley-phone")
	s.start()
	k.sees("Live")
	assert.NotContains(t, k.text(), "does not answer")
}

func TestAStrangerSeesHowToSignIn(t *testing.T) {
	s := demo(t, t.TempDir(), "-clips=false")
	b, err := browser.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	k := keeper{t, b, s}
	require.NoError(t, b.Open(s.url))
	k.sees("This browser is not signed in", "yardtide link")
	assert.NotContains(t, k.text(), "chart-table")
	require.NoError(t, b.Open(strings.TrimSpace(s.ok("link"))))
	k.sees("chart-table")
}

func TestByKeyboardAlone(t *testing.T) {
	s := demo(t, t.TempDir(), "-clips=false")
	k := atTheConsole(t, s)
	k.sees("galley-phone")
	focused := func() string {
		t.Helper()
		label, err := browser.Eval[string](k.b, `(e => e.getAttribute('aria-label') || e.innerText)(document.activeElement)`)
		require.NoError(t, err)
		return label
	}
	reach := func(label string) {
		t.Helper()
		for range 240 { // what has the focus may go as the yard moves: it begins at the top then
			if strings.HasPrefix(focused(), label) {
				return
			}
			require.NoError(t, k.b.Press(kb.Tab))
		}
		require.Fail(t, "the keyboard does not reach "+label)
	}
	require.NoError(t, k.b.Press(kb.Tab))
	assert.Equal(t, "Skip to the content", focused())
	reach("Pause galley-phone")
	require.NoError(t, k.b.Press(kb.Enter))
	k.sees("until I resume")
	require.NoError(t, k.b.Press(kb.ArrowDown))
	require.NoError(t, k.b.Press(kb.ArrowDown))
	require.NoError(t, k.b.Press(kb.Enter))
	k.sees("paused until you resume")
	assert.True(t, s.yard().Devices[0].Pause.On)
}

// axeIn is axe-core, as the package ships it, run in the page.
func axeIn(t *testing.T, k keeper) (check func(what string)) {
	t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "make build installs it")
	return func(what string) {
		t.Helper()
		_, err := browser.Eval[bool](k.b, string(axe)+"; true")
		require.NoError(t, err)
		found, err := browser.Eval[string](k.b, `axe.run().then(r => JSON.stringify(r.violations.map(v => [v.id, v.help, v.nodes.map(n => n.html.slice(0, 200))])))`)
		require.NoError(t, err)
		var violations []any
		require.NoError(t, json.Unmarshal([]byte(found), &violations))
		assert.Empty(t, violations, "%s", what)
	}
}

func TestAxeFindsNothing(t *testing.T) {
	s := demo(t, t.TempDir())
	k := atTheConsole(t, s)
	check := axeIn(t, k)
	for _, scheme := range []string{"light", "dark"} {
		for _, width := range []int64{1280, 390} {
			require.NoError(t, k.b.Scheme(scheme))
			require.NoError(t, k.b.Size(width, 844))
			name := fmt.Sprintf("%s at %d", scheme, width)
			k.click("Now")
			k.sees("north-locker")
			check("Now, " + name)
			k.click("Queue")
			k.sees("newest first")
			check("Queue, " + name)
			k.click("IMG_")
			k.sees("Its story")
			check("a story, " + name)
			require.NoError(t, k.b.Press(kb.Escape))
			k.click("Destinations")
			if width == 1280 && scheme == "light" {
				k.click("Test north-locker")
			}
			k.sees("It works, and nothing of the trial is left there.", "Still to come")
			check("Destinations, " + name)
			k.click("Add a destination", "A box on my network")
			k.sees("Private key")
			check("a new destination, " + name)
			require.NoError(t, k.b.Press(kb.Escape))
			k.click("Plan", "Show the text that version 1")
			k.click("up to 6.0 MB per day (change it, everyday)", "Add a folder")
			k.sees("How it came to be so", "+yard: Saltmarsh Slip", "Carries at most")
			check("Plan, " + name)
			wide, err := browser.Eval[bool](k.b, `document.documentElement.scrollWidth > innerWidth`)
			require.NoError(t, err)
			assert.False(t, wide, "it scrolls sideways, %s", name)
		}
	}
}

// What the first page needs comes quickly over a slow line: the other pages are fetched after it.
func TestTheFirstPageIsSmall(t *testing.T) {
	s := demo(t, t.TempDir(), "-items", "1", "-clips=false")
	_, page := s.call("GET", "/", "", nil)
	files := regexp.MustCompile(`(?:src|href)="(/assets/[^"]+\.js)"`).FindAllStringSubmatch(page, -1)
	require.NotEmpty(t, files)
	var packed bytes.Buffer
	for _, file := range files {
		code, text := s.call("GET", file[1], "", nil)
		require.Equal(t, http.StatusOK, code, file[1])
		w := gzip.NewWriter(&packed)
		_, err := io.WriteString(w, text)
		require.NoError(t, errors.Join(err, w.Close()))
	}
	assert.Less(t, packed.Len(), 130_000, "packed, of %v", files)

	// Whatever page was not opened yet opens when the service is gone: it was fetched meanwhile.
	k := atTheConsole(t, s)
	k.sees("Devices")
	require.Eventually(t, func() bool {
		files, err := browser.Eval[string](k.b, `performance.getEntriesByType("resource").map((e) => e.name).join()`)
		return assert.NoError(t, err) && strings.Contains(files, "SetupPage")
	}, time.Minute, 50*time.Millisecond, "the last of the pages is fetched")
	s.kill()
	k.click("Plan")
	k.sees("Plan")
	assert.NotContains(t, k.text(), "Something went wrong")
}
