package e2e

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/e2e/browser"
	"yardtide/wire"
)

func TestWhatIsSaidWronglyIsRefusedAtOnceAndInWords(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "a", 2)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 2 })
	for _, args := range [][]string{{"-state", "nope"}, {"-kind", "song"}, {"-hold", "gate"}} {
		_, errOut, code := s.run(append([]string{"queue"}, args...)...)
		assert.Equal(t, 2, code, "%v", args)
		assert.Contains(t, errOut, args[0]+" is one of ")
		assert.Contains(t, errOut, `"`+args[1]+`"`)
	}
	for _, line := range strings.Split(strings.TrimSpace(s.ok("queue")), "\n") { // what one command prints, another takes
		fields := strings.Fields(line)
		require.Greater(t, len(fields), 5, line)
		item := fields[5]
		require.True(t, strings.HasPrefix(item, "desk:in/"), line)
		assert.Contains(t, s.ok("why", item), "Read back whole.")
	}
	for listen, says := range map[string]string{"nope": "is not an address such as",
		"127.0.0.1:99999": "the port is a number from 0 to 65535", "127.0.0.1:http": "the port is a number",
		"10.0.0.1:7400": "not a loopback address"} {
		_, errOut, code := runWith(t, os.Environ(), "serve", "-data", dir+"/new", "-listen", listen)
		assert.Equal(t, 1, code)
		assert.Contains(t, errOut, says)
		assert.NotContains(t, errOut, "another program")
		assert.NoDirExists(t, dir+"/new", "nothing is made for %s", listen)
	}
	began := time.Now()
	_, errOut, code := s.run("destination", "add", "disk", "-kind", "webdav", "-address", "http://10.255.255.1/")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `has a destination "disk" already`)
	assert.Less(t, time.Since(began), 5*time.Second, "before anything is tried")
	bearer := map[string]string{"Authorization": "Bearer " + s.token()}
	for _, cursor := range []string{"null", "{}", "[]", "1", `{"desk":null}`, `{"nobody":{"TakenMS":1}}`, `""`} {
		code, body := s.call("GET", "/api/v1/items?after="+base64.RawURLEncoding.EncodeToString([]byte(cursor)), "", bearer)
		assert.Less(t, code, 500, "%s: %s", cursor, body)
	}
	// What is missing at a storage is told by its name as it is.
	require.NoError(t, os.Remove(firstOf(t, dir+"/disk/2026/*/a-000.jpg")))
	_, _, code = s.run("prove", "-all")
	assert.Equal(t, 1, code)
	assert.Contains(t, s.ok("why", "a-000.jpg"), "What was at 2026/")
	// Records that a disk damaged are told, and rebuilt by one command.
	s.stop()
	file := dir + "/data/devices/desk/records.db"
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	for i := 4096; i < len(content); i += 4096 {
		copy(content[i:], "\x1b[31mgarbage\x07")
	}
	require.NoError(t, os.WriteFile(file, content, 0o600))
	out, errOut, code := runWith(t, os.Environ(), s.args...)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "are damaged")
	assert.Contains(t, errOut, "yardtide rebuild")
	assert.NotContains(t, out+errOut, "\x1b", "no raw bytes")
	assert.NotContains(t, errOut, "Make room")
	out, errOut, code = runWith(t, os.Environ(), "rebuild", "-data", dir+"/data")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "desk: the records are begun anew; the old ones are kept in")
	assert.NotEmpty(t, firstOf(t, dir+"/data/devices/desk/damaged-*/records.db"))
	s.start()
	s.until("safe again", func(y wire.Yard) bool { return total(y, queue.Safe) == 2 })
	assert.Contains(t, s.ok("why", "a-001.jpg"), "It was at the storage before")
	out, _, code = runWith(t, os.Environ(), "rebuild", "-data", dir+"/nothing")
	assert.Equal(t, 1, code, out)
	_, errOut, code = runWith(t, os.Environ(), "rebuild", "-data", dir+"/data")
	assert.Equal(t, 1, code, "while it runs")
	assert.Contains(t, errOut, "another Yard Tide process uses it")
}

func firstOf(t *testing.T, pattern string) string {
	t.Helper()
	all, err := filepath.Glob(pattern)
	require.NoError(t, err)
	require.NotEmpty(t, all, pattern)
	return all[0]
}

func TestAKeeperWithOnlyThePageIsLedOn(t *testing.T) {
	s := bare(t, t.TempDir())
	k := atTheConsole(t, s)
	k.sees("Whose pictures?") // with nothing set up the console opens on it
	assert.NotContains(t, k.text(), "docs/plan.md")
	k.click("Destinations")
	k.sees("There is no destination yet")

	// The name that the plan refuses is told first, with what would be right.
	k.click("Add a destination")
	require.NoError(t, k.b.Type("Name", "a b"))
	require.NoError(t, k.b.Type("Folder", "/nowhere"))
	k.click("Test it")
	k.sees(`"a b" cannot be the name of a destination`, "would be letters, digits, dots and dashes")

	// What was typed for one kind is not carried to another, nor trust to another address.
	k.click("A web storage")
	require.NoError(t, k.b.Type("Address", "https://127.0.0.1:1/"))
	require.NoError(t, k.b.Type("User", "me"))
	k.click("A bucket")
	values, err := browser.Eval[string](k.b,
		`JSON.stringify([...document.querySelectorAll("form input:not([type=checkbox])")].map(i => i.value))`)
	require.NoError(t, err)
	assert.Equal(t, `["a b","","","","",""]`, values, "only the name stays")
}

func TestTrustIsForOneAddress(t *testing.T) {
	var trusted atomic.Int64
	storage := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		trusted.Add(1)
		w.WriteHeader(401)
	}))
	t.Cleanup(storage.Close)
	s := bare(t, t.TempDir())
	k := atTheConsole(t, s)
	k.sees("Whose pictures?")
	k.click("Destinations", "Add a destination", "A web storage")
	require.NoError(t, k.b.Type("Name", "locker"))
	require.NoError(t, k.b.Type("Address", storage.URL+"/a/"))
	k.click("Test it")
	k.sees("is not trusted")
	k.click("Trust it and go on")
	k.sees("It is trusted: SHA256:")
	require.NoError(t, k.b.Type("Address", storage.URL+"/b/")) // another address now
	k.click("Test it")
	k.sees("Trust it and go on")
}

func TestTheConsoleTellsWhichLaneAndWhatFailed(t *testing.T) {
	s := demo(t, t.TempDir(), "-clips=false")
	k := atTheConsole(t, s)
	k.click("Gates")
	k.sees("galley-phone, photos to north-locker over Wi-Fi", "by the rule ")
	// Pause fails when the service is gone: it is said where it was asked.
	k.click("Pause galley-phone")
	k.sees("for an hour")
	s.kill()
	k.click("for an hour")
	k.sees("The service does not answer.")
	s.start()
	// Every mistake that the service tells is shown, each on its line.
	text, err := browser.Eval[string](k.b, `fetch("/api/v1/pause", {method: "POST", headers: {"Content-Type": "application/json"}, body: "{\"untill\": 1}"}).then(r => r.text())`)
	require.NoError(t, err)
	assert.Contains(t, text, "unexpected property")
}

func TestALongListIsNotAskedForAgainAllTheTime(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	for i := range 700 {
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/in/empty-%03d.jpg", dir, i), nil, 0o644))
	}
	pictures(t, dir, "a", 1)
	s.until("found", func(y wire.Yard) bool { return total(y, queue.Skipped) == 700 })
	k := atTheConsole(t, s)
	k.sees("700 skipped")
	k.click("Queue")
	k.sees("empty-")
	asked := func() int {
		n, err := browser.Eval[int](k.b, `performance.getEntriesByType("resource").filter(e => e.name.includes("/api/v1/items?")).length`)
		require.NoError(t, err)
		return n
	}
	require.Eventually(t, func() bool { // on and on, till several pages are shown
		_, err := browser.Eval[bool](k.b, `window.scrollTo(0, document.documentElement.scrollHeight), true`)
		require.NoError(t, err)
		return asked() >= 5
	}, 2*time.Minute, 200*time.Millisecond)
	before := asked()
	for i := range 20 { // counts move all the time
		pictures(t, dir, fmt.Sprintf("b%d", i), 1)
		time.Sleep(150 * time.Millisecond)
	}
	assert.LessOrEqual(t, asked()-before, 12, "pages asked for in three seconds")
}
