package e2e

import (
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/e2e/browser"
	"yardtide/wire"
)

// The keeper points a destination's name at another folder: by a plan, and by
// exchanging the disk. Nothing is called safe that is not there; the console and
// the command line ask, and take the answer.
func TestANameThatComesToStandForAnotherPlace(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "a", 4)
	safe := func(n int64) func(wire.Yard) bool {
		return func(y wire.Yard) bool {
			return total(y, queue.Safe) == n && total(y, queue.Waiting, queue.Proving, queue.Sending, queue.Stuck) == 0
		}
	}
	s.until("safe", safe(4))

	// Another path in the plan, where nothing is.
	require.NoError(t, os.Mkdir(dir+"/attic", 0o755))
	moved := dir + "/moved.yaml"
	require.NoError(t, os.WriteFile(moved, []byte(strings.Replace(folderPlan(dir), dir+"/disk", dir+"/attic", 1)), 0o644))
	out := s.ok("plan", "check", moved)
	assert.Contains(t, out, "no mistakes")
	assert.Contains(t, out, "disk is to stand for another place: "+dir+"/attic, and "+dir+"/disk until now")
	assert.Contains(t, s.ok("plan", "apply", moved), "is to stand for another place")
	assert.Zero(t, total(s.yard(), queue.Safe), "from the first moment on")
	s.until("asked", func(y wire.Yard) bool { return y.Destinations[0].Asks })
	assert.Zero(t, total(s.yard(), queue.Safe))
	assert.Contains(t, s.ok("destination", "list"), "nothing tells which place it is")
	assert.Contains(t, s.ok("status"), "yardtide destination place disk moved|new")
	out, _, code := s.run("destination", "test", "disk")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "no  place")
	assert.Contains(t, s.ok("why", "desk:in/a-000.jpg"), "held by   place", "what the queue prints, why takes")
	entries, err := os.ReadDir(dir + "/attic")
	require.NoError(t, err)
	assert.Empty(t, entries, "nothing is put there until it is answered")

	// The answer, at the console.
	k := atTheConsole(t, s)
	k.sees("desk")
	k.click("Destinations")
	k.sees("It is a new place")
	k.click("It is a new place")
	s.until("all of it sent there", safe(4))
	left, err := filepath.Glob(dir + "/disk/*/*/*.jpg")
	require.NoError(t, err)
	assert.Len(t, left, 4, "what is at the old place stays")
	_, errOut, code := s.run("destination", "place", "disk", "new")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "there is nothing to answer")

	// The disk is exchanged for a copy of it, marker and all, on which one is missing.
	time.Sleep(1100 * time.Millisecond) // file times are told apart by the second
	text, err := exec.Command("cp", "-a", dir+"/attic", dir+"/copy").CombinedOutput()
	require.NoError(t, err, "%s", text)
	there, err := filepath.Glob(dir + "/copy/*/*/*.jpg")
	require.NoError(t, err)
	require.NoError(t, os.Remove(there[0]))
	require.NoError(t, os.Rename(dir+"/attic", dir+"/attic.away"))
	require.NoError(t, os.Rename(dir+"/copy", dir+"/attic"))
	pictures(t, dir, "b", 1)
	s.until("proven again", safe(5))
	there, err = filepath.Glob(dir + "/attic/*/*/*.jpg")
	require.NoError(t, err)
	assert.Len(t, there, 5, "and what was missing was sent again")
	assert.Contains(t, s.ok("why", "a-001.jpg"), "the proof is taken again")

	// A disk that has nothing on it: asked, and the right one comes back.
	require.NoError(t, os.Rename(dir+"/attic", dir+"/attic.right"))
	require.NoError(t, os.Mkdir(dir+"/attic", 0o755))
	pictures(t, dir, "c", 1)
	s.until("asked", func(y wire.Yard) bool { return y.Destinations[0].Asks && total(y, queue.Safe) == 0 })
	require.NoError(t, os.Remove(dir+"/attic"))
	require.NoError(t, os.Rename(dir+"/attic.right", dir+"/attic"))
	s.ok("retry")
	s.until("as it was", safe(6))
}

// A page of another origin, in a real browser that is signed in to the console,
// sends what it can: nothing of it is done.
func TestAPageOfAnotherOriginChangesNothing(t *testing.T) {
	s := demo(t, t.TempDir(), "-clips=false")
	b, err := browser.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	k := keeper{t, b, s}
	require.NoError(t, b.Open(s.link))
	k.sees("galley-phone")
	page := `<!doctype html><title>evil</title><body><h1>another page</h1><div id="done"></div>
<form id="plain" method="post" action="` + s.url + `/api/v1/pause" enctype="text/plain" target="frame"><input name='{"device":"","x":"' value='"}'></form><iframe name="frame" id="frame"></iframe>
<script>
const results = [];
const ask = (how) => fetch("` + s.url + `/api/v1/pause", how).then(r => results.push(r.status), e => results.push(String(e)));
(async () => {
  await ask({ method: "POST", body: "{}", mode: "no-cors", credentials: "include" });
  await ask({ method: "POST", body: new Blob(["{}"], { type: "" }), mode: "no-cors", credentials: "include" });
  await ask({ method: "POST", body: "{}", credentials: "include", headers: { "Content-Type": "application/json" } });
  await ask({ method: "POST", body: "{}", mode: "no-cors", credentials: "include", headers: { "Content-Type": "text/plain" } });
  await fetch("` + s.url + `/API/v1/pause", { method: "POST", body: "{}", mode: "no-cors", credentials: "include" }).catch(() => 0);
  navigator.sendBeacon("` + s.url + `/api/v1/pause", new Blob(["{}"]));
  document.getElementById("plain").submit();
  const read = await fetch("` + s.url + `/api/v1/status", { credentials: "include" }).then(r => r.text(), e => String(e));
  document.getElementById("done").textContent = "tried all; read: " + read;
})();
</script></body>`
	for _, host := range []string{"127.0.0.1", "localhost"} { // the first is the same site, with another port
		evil := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte(page)) // the browser shows it or the test says so
		}))
		t.Cleanup(evil.Close)
		require.NoError(t, b.Open(strings.Replace(evil.URL, "127.0.0.1", host, 1)))
		k.sees("tried all; read: ")
		assert.NotContains(t, k.text(), "chart-table", "nor does it read anything")
		time.Sleep(200 * time.Millisecond) // for the form
		for _, d := range s.yard().Devices {
			assert.False(t, d.Pause.On, "%s was paused from %s", d.Name, host)
		}
	}
	require.NoError(t, b.Open(s.url))
	k.sees("galley-phone")
	k.click("Pause galley-phone", "for an hour")
	k.sees("paused until")
}
