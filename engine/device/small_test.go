package device_test

import (
	"database/sql"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/standin"
	"yardtide/wire"
)

// A storage that stops answering in the middle of finding out what it can do keeps
// nobody who only asks how things stand.
func TestAStalledStorageKeepsNoStatus(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.file("long.jpg", append(jpeg(t), make([]byte, 40<<20)...))
	y.picture("1.jpg", 1)
	y.until("found", heldBy(gate.Network, 2))
	y.storage.SetFaults(standin.Faults{Stalls: 1})
	y.sensor.Put(home)
	require.Eventually(t, func() bool { return y.storage.Stalled() > 0 }, 20*time.Second, time.Millisecond)
	asked, before := int64(0), y.storage.Stalled()
	for end := time.Now().Add(2 * time.Second); time.Now().Before(end); asked++ {
		y.status()
		_, err := y.device.Told.Items(t.Context(), wire.Filter{State: string(queue.Waiting), Limit: 1000})
		require.NoError(t, err)
	}
	stalled := y.storage.Stalled() - before
	assert.Greater(t, asked, 3*stalled+3, "who asks waits for no request that stalls: else each would be answered "+
		"after one")
	y.storage.SetFaults(standin.Faults{})
	y.until("safe", counts(queue.Safe, 2))
}

func TestSmallestGoesFirstBetweenKindsToo(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	p, err := plantext.Parse("plan", []byte(strings.Replace(strings.Replace(yardPlan, "take: [photo, video]",
		"order: smallest\n    take: [photo, video]", 1), "url: http", "senders: 1\n    url: http", 1)))
	require.NoError(t, err)
	y.device.SetPlan(p)
	y.clip("b.mp4")
	clip, err := os.Stat(y.dir + "/phone/DCIM/b.mp4")
	require.NoError(t, err)
	y.file("a.jpg", append(jpeg(t), make([]byte, clip.Size())...)) // larger than the clip, and newer
	y.file("c.jpg", jpeg(t))
	y.until("found", heldBy(gate.Network, 3))
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 3))
	order := map[string]int64{}
	for _, name := range []string{"a.jpg", "b.mp4", "c.jpg"} {
		order[name] = y.copy(name).ProvenMS
	}
	assert.LessOrEqual(t, order["b.mp4"], order["a.jpg"], "the clip is smaller than one of the photos: %v", order)
}

// A plan that asks for another period, names the rule otherwise or has a second
// rule finds what was spent.
func TestWhatWasSpentOutlivesThePlan(t *testing.T) {
	t.Parallel()
	y := setup(t, away)
	for i := range 4 {
		y.picture(fmt.Sprintf("%d.jpg", i), i)
	}
	spent := func(s wire.Device) (n int64) {
		for _, l := range s.Lanes {
			if l.Over == plan.Cellular {
				n = max(n, l.Spent)
			}
		}
		return n
	}
	first := y.until("sent", func(s wire.Device) bool { return len(s.Sends) == 0 && s.States[queue.Proving].N == 4 })
	require.Positive(t, spent(first))
	for name, change := range map[string][2]string{
		"another period": {"300 kB per day", "300 kB per month"},
		"another name":   {"everyday", "always"},
		"another zone":   {"timezone: UTC", "timezone: Asia/Kathmandu"},
		"another limit":  {"300 kB per day", "1 MB per week"},
	} {
		p, err := plantext.Parse("plan", []byte(strings.ReplaceAll(yardPlan, change[0], change[1])))
		require.NoError(t, err)
		y.device.SetPlan(p)
		s := y.until(name, func(s wire.Device) bool { return spent(s) > 0 })
		assert.GreaterOrEqual(t, spent(s), spent(first), name)
	}
}

// What is read back to go on from it is spent too, and was set aside before.
func TestWhatIsReadBackToGoOnIsSpent(t *testing.T) {
	t.Parallel()
	open, _ := real["sftp"](t)
	h := newHouse(t, "sftp", "", "", open, "phone")
	h.stop()
	h.plan = strings.Replace(h.plan, "lanes: [{over: wifi}]",
		"lanes: [{over: wifi, metered: true, allowance: 900 MB per day}]", 1)
	fast := h.plan
	h.plan = strings.Replace(fast, "  phone:\n", "  phone:\n    limit: 30 MB/s\n", 1)
	metered := home
	metered.Metered = gate.Yes
	h.start()
	h.until("phone", "its place is known", func(wire.Device) bool {
		text, err := h.devices["phone"].Records.Facts.Fact(t.Context(), "place locker")
		return err == nil && text != ""
	})
	h.sensors["phone"].Put(metered)
	h.until("phone", "metered", func(s wire.Device) bool { return s.Conditions.Metered == gate.Yes })
	h.file("phone", "long.jpg", long(t, 40<<20))
	h.until("phone", "half of it sent", func(s wire.Device) bool { return len(s.Sends) == 1 && s.Sends[0].Sent > 20<<20 })
	h.stop()
	h.plan = fast
	h.start()
	h.until("phone", "sent", func(s wire.Device) bool {
		return s.States[queue.Proving].N+s.States[queue.Safe].N == 1 && len(s.Sends) == 0
	})
	require.Contains(t, h.story("phone", "long.jpg"), "It goes on after")
	a, err := h.devices["phone"].Records.Ledger.Account(t.Context(), plan.WiFi, time.Time{}, false)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, a.Spent, h.copy("phone", "long.jpg").Sent+destination.Compared,
		"what went, and what was read back")
}

// A large file whose time was touched is hashed to see whether it changed, and a
// stop does not wait for that.
func TestAStopDoesNotWaitForAHash(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	content := append(jpeg(t), make([]byte, 8<<20)...)
	file := y.file("large.jpg", content)
	y.until("safe", counts(queue.Safe, 1))
	y.stop()
	// As large as it says, and nothing in it: reading it takes long.
	require.NoError(t, os.Truncate(file, 60<<30))
	db, err := sql.Open("sqlite", y.dir+"/data/records.db")
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE items SET size = ?`, int64(60<<30))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	touched := time.Now().Add(-time.Minute)
	require.NoError(t, os.Chtimes(file, touched, touched))
	y.start()
	time.Sleep(700 * time.Millisecond) // it is being read
	began := time.Now()
	y.stop()
	assert.Less(t, time.Since(began), 3*time.Second)
}
