package e2e

import (
	"bytes"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/engine/link"
	"yardtide/engine/tell"
	"yardtide/wire"
)

// Devices that say nothing, are open in front at times only, or have a wrong clock, as real
// processes.

// heardBefore puts back when the service heard of a device; it must be stopped.
func heardBefore(t *testing.T, s *service, name string, ago time.Duration) {
	t.Helper()
	mirrors, err := filepath.Glob(filepath.Join(s.data, "devices", name, "mirror-*.db"))
	require.NoError(t, err)
	require.Len(t, mirrors, 1)
	db, err := sqlx.Open("sqlite", "file:"+mirrors[0])
	require.NoError(t, err)
	defer db.Close()
	var text string
	require.NoError(t, db.Get(&text, `SELECT value FROM facts WHERE name = 'told'`))
	told := map[string]any{}
	require.NoError(t, json.Unmarshal([]byte(text), &told))
	told["heard"] = time.Now().Add(-ago)
	changed, err := json.Marshal(told)
	require.NoError(t, err)
	db.MustExec(`UPDATE facts SET value = ? WHERE name = 'told'`, string(changed))
}

func TestADeviceIsSilent(t *testing.T) {
	t.Parallel()
	s, dir, _ := slip(t)
	text, err := os.ReadFile(filepath.Join(dir, "plan.yaml"))
	require.NoError(t, err)
	file := filepath.Join(dir, "second.yaml")
	write := func(old, is string) {
		require.Contains(t, string(text), old)
		text = []byte(strings.Replace(string(text), old, is, 1))
		require.NoError(t, os.WriteFile(file, text, 0o644))
		s.ok("plan", "apply", file)
	}
	write("timezone: UTC\n", "timezone: UTC\nsilent-after: 2 days\n")
	write("galley-phone: {", "galley-phone: {in-front-only: true, ")
	d := joins(t, s, dir, "galley-phone", "")
	d.start()
	s.until("it is in touch", func(y wire.Yard) bool {
		l := named(y, "galley-phone").Link
		return l != nil && l.Connected && l.Follows
	})
	s.ok("pause", "-device", "galley-phone")
	d.until("it is paused", func(y wire.Yard) bool { return y.Devices[0].Pause.On })
	writes(t, dir, "galley-phone/DCIM", "a.txt", "b.txt")
	s.until("what waits is told", func(y wire.Yard) bool { return named(y, "galley-phone").States[queue.Waiting].N == 2 })
	d.stop()
	heard := func(ago time.Duration) wire.Yard {
		s.stop()
		heardBefore(t, s, "galley-phone", ago)
		s.start()
		return s.yard()
	}
	says := func(y wire.Yard) (all []string) {
		for _, n := range y.Needs {
			all = append(all, n.Says)
		}
		return all
	}

	y := heard(47 * time.Hour)
	assert.NotContains(t, says(y), "silent")
	assert.False(t, named(y, "galley-phone").Link.Silent, "not for long enough")
	holds := named(y, "galley-phone").Holds
	require.Len(t, holds, 1)
	assert.Equal(t, gate.Front, holds[0].Gate)
	assert.Contains(t, holds[0].Says, "open it on galley-phone")
	assert.Contains(t, s.ok("status"), "open it on galley-phone")

	y = heard(49 * time.Hour)
	assert.True(t, named(y, "galley-phone").Link.Silent)
	out := s.ok("status")
	assert.Contains(t, out, "galley-phone is silent.")
	assert.Contains(t, out, "Look whether it is on")
	assert.Contains(t, s.ok("device", "show", "galley-phone"), "waiting 2", "what it still had")

	// It comes back, and all of that is over.
	d.start()
	s.ok("resume", "-device", "galley-phone")
	s.until("its files are safe", safe("galley-phone", 2))
	y = s.yard()
	assert.False(t, named(y, "galley-phone").Link.Silent)
	assert.Empty(t, named(y, "galley-phone").Holds)
	d.stop()

	// A clock of the service that was set back makes no device silent, nor heard of later.
	y = heard(-48 * time.Hour)
	assert.False(t, named(y, "galley-phone").Link.Silent)
}

func TestAClockThatIsWrongIsTold(t *testing.T) {
	// The device's: told at the service.
	s, _, _ := slip(t)
	code, err := s.client().AddDevice(t.Context(), "galley-phone")
	require.NoError(t, err)
	c, err := link.ParseCode(code.Code)
	require.NoError(t, err)
	token := []byte("a token of sixteen bytes at least")
	_, err = link.JoinBy(t.Context(), c, token, "age1cy0su9fwf3gf9mw868g5yut09p6nytfmmnktexz2ya5uqg9vl9sss4euqm", "test")
	require.NoError(t, err)
	nonsense := tell.Known{Modem: "perhaps", Conditions: gate.Conditions{Network: "offline", Metered: "maybe",
		Use: "never", Battery: 900}, Sends: []tell.Send{{Send: wire.Send{Kind: "hologram", State: "flying"}}}}
	nonsense.Awake.Then = "dance"
	for n, ahead := range []time.Duration{3 * time.Hour, -26 * time.Hour, 0} {
		b := link.Batch{Boot: "b", Count: int64(n + 1), Known: &nonsense, Epoch: "e", Time: time.Now().Add(ahead)}
		body, err := b.Pack()
		require.NoError(t, err)
		request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, "https://"+c.Address+"/link/changes",
			bytes.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+hex.EncodeToString(token))
		answer, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}).Do(request)
		require.NoError(t, err)
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		require.Equal(t, http.StatusOK, answer.StatusCode, string(text))
		assert.InDelta(t, ahead.Seconds(), float64(named(s.yard(), "galley-phone").Link.Ahead), 5)
		out := s.ok("status")
		if ahead == 0 {
			assert.NotContains(t, out, "clock of galley-phone")
			continue
		}
		assert.Contains(t, out, "clock of galley-phone is")
		assert.Contains(t, out, map[bool]string{true: "ahead of", false: "behind"}[ahead > 0])
	}

	k := atTheConsole(t, s)
	k.sees("galley-phone", "an unknown network") // words of another version of the program break no page
	for _, page := range []string{"Devices", "Queue", "Plan", "Now"} {
		k.click(page)
		k.sees("Now")
		assert.NotContains(t, k.text(), "Something went wrong")
	}

	// The service's: told at the device, which cannot know whose is right.
	der, err := link.NewKey()
	require.NoError(t, err)
	cert, pin, err := link.Certificate(der)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	later := func() time.Time { return time.Now().Add(5 * time.Hour) }
	mux := http.NewServeMux()
	answer := func(path string, with func(r *http.Request) any) {
		mux.HandleFunc("POST "+path, func(w http.ResponseWriter, r *http.Request) {
			is := with(r)
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(is)
		})
	}
	answer("/join", func(*http.Request) any { return link.Joined{Time: later(), Device: "galley-phone", Yard: "Slip"} })
	answer("/link/changes", func(r *http.Request) any {
		packed, _ := io.ReadAll(r.Body)
		b, err := link.Unpack(packed)
		assert.NoError(t, err)
		return link.Have{Time: later(), Last: b.ID}
	})
	answer("/link/wait", func(r *http.Request) any { time.Sleep(200 * time.Millisecond); return link.News{Time: later()} })
	answer("/link/others/{what}", func(*http.Request) any { return link.Told{} })
	server := &http.Server{Handler: mux, TLSConfig: &tls.Config{Certificates: []tls.Certificate{cert},
		MinVersion: tls.VersionTLS13}}
	done := make(chan error, 1)
	go func() { done <- server.ServeTLS(l, "", "") }()
	t.Cleanup(func() {
		assert.NoError(t, server.Close())
		if err := <-done; !errors.Is(err, http.ErrServerClosed) {
			assert.NoError(t, err)
		}
	})
	root := t.TempDir()
	given := link.Code{Address: l.Addr().String(), Secret: link.NewSecret(), Pin: pin, Pinned: true}
	_, errOut, exit := runWith(t, os.Environ(), "device", "join", given.String(), "-data", root+"/data")
	require.Zero(t, exit, errOut)
	addr := freePort(t)
	d := &service{t: t, url: "http://" + addr, data: root + "/data",
		args: []string{"device", "run", "-data", root + "/data", "-listen", addr, "-root", root}}
	d.start()
	t.Cleanup(d.stop)
	d.until("it heard of it", func(y wire.Yard) bool { return y.Home != nil && y.Home.Behind > 0 })
	assert.InDelta(t, 5*3600, float64(d.yard().Home.Behind), 5)
	assert.Contains(t, d.ok("status"), "The clock of this device is 5h0m0s behind the service's")
}
