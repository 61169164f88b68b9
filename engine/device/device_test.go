package device_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/awake"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/destination/web"
	"yardtide/engine/destination/webdav"
	"yardtide/engine/device"
	"yardtide/engine/proof"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/engine/scan"
	"yardtide/engine/sensor"
	"yardtide/engine/tell"
	"yardtide/engine/volume"
	"yardtide/standin"
	"yardtide/wire"
)

const yardPlan = `
yard: Test
timezone: UTC
destinations:
  locker:
    kind: webdav
    url: http://127.0.0.1/dav/
devices:
  phone:
    sources:
      - folder: DCIM
        rule: everyday
rules:
  everyday:
    take: [photo, video]
    to: [locker]
    lanes:
      - over: wifi
      - over: cellular
        take: [photo]
        allowance: 300 kB per day
    gates:
      power: charging or at least 40%
`

var (
	home = gate.Conditions{Network: plan.WiFi, Metered: gate.No, Roaming: gate.No, Charging: gate.No, Battery: 80,
		Use: gate.NotInUse}
	away = gate.Conditions{Network: plan.Cellular, Metered: gate.Yes, Roaming: gate.No, Charging: gate.No, Battery: 80,
		Use: gate.InUse}
	none = gate.Conditions{Network: plan.NoNetwork, Metered: gate.No, Roaming: gate.No, Charging: gate.No, Battery: 80,
		Use: gate.InUse}
)

// yard is a device with a simulated storage, both real but for their size.
type yard struct {
	t       *testing.T
	dir     string
	storage *standin.Storage
	sensor  *sensor.Set
	records *records.Records
	device  *device.Device
	awake   awake.System // nil where it is not looked at
	volumes volume.Lister
	stop    func()
}

// setup makes a yard and starts its device.
func setup(t *testing.T, now gate.Conditions) *yard { return setupWith(t, now, nil) }

// setupWith makes a yard whose device has a reader of cards, and starts the device.
func setupWith(t *testing.T, now gate.Conditions, volumes volume.Lister) *yard {
	t.Helper()
	y := &yard{t: t, dir: t.TempDir(), sensor: &sensor.Set{}, volumes: volumes}
	y.storage = &standin.Storage{Dir: y.dir + "/locker", User: "u", Password: "p"}
	require.NoError(t, y.storage.Start("127.0.0.1:0"))
	t.Cleanup(func() { assert.NoError(t, y.storage.Close()) })
	require.NoError(t, os.MkdirAll(y.dir+"/phone/DCIM", 0o755))
	y.sensor.Put(now)
	y.start()
	t.Cleanup(func() { y.stop() })
	if now == home { // the place has its marker before a test begins
		require.Eventually(t, func() bool {
			text, err := y.records.Facts.Fact(context.Background(), "place locker")
			return err == nil && text != ""
		}, time.Minute, 5*time.Millisecond)
	}
	return y
}

// start starts the device, after a stop with what it had recorded.
func (y *yard) start() {
	y.t.Helper()
	var err error
	y.records, err = recordstest.Open(context.Background(), y.dir+"/data/records.db")
	require.NoError(y.t, err)
	driver, err := webdav.New(webdav.Options{URL: y.storage.URL(), User: "u",
		Password: func() (string, error) { return "p", nil }, Web: web.Options{Stall: 2 * time.Second}})
	require.NoError(y.t, err)
	y.device, err = device.New(context.Background(), device.Options{
		Name: "phone", Root: y.dir + "/phone", Records: y.records, Sensor: y.sensor,
		Driver: func(name string) (destination.Driver, error) {
			if name == "shed" {
				return folder.New(y.dir + "/shed"), nil
			}
			return driver, nil
		},
		Changed: func() {}, Log: noFault(y.t), Grace: 200 * time.Millisecond,
		Scan:   scan.Options{Quiet: 50 * time.Millisecond, Poll: 200 * time.Millisecond},
		Jitter: func() float64 { return 0.5 }, Wait: func(d time.Duration) time.Duration { return d / 100 }, Awake: y.awake,
		Volumes:    y.volumes,
		Renditions: y.dir + "/data/renditions", Bursts: y.dir + "/data/bursts",
	})
	require.NoError(y.t, err)
	p, err := plantext.Parse("plan", []byte(yardPlan))
	require.NoError(y.t, err)
	y.device.SetPlan(p)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- y.device.Run(ctx) }()
	y.stop = sync.OnceFunc(func() {
		cancel()
		assert.NoError(y.t, <-done)
		assert.NoError(y.t, driver.Close())
		assert.NoError(y.t, y.records.Close())
	})
}

// picture puts a picture of about 40 kB into the gallery.
func (y *yard) picture(name string, n int) string {
	y.t.Helper()
	content, err := standin.JPEG(n, 320, time.Date(2026, 3, 1, 10, n, 0, 0, time.UTC))
	require.NoError(y.t, err)
	return y.file(name, content)
}

func (y *yard) file(name string, content []byte) string {
	y.t.Helper()
	file := filepath.Join(y.dir, "phone/DCIM", name)
	require.NoError(y.t, os.MkdirAll(filepath.Dir(file), 0o755))
	temp := filepath.Join(y.dir, "phone/on its way")
	require.NoError(y.t, os.WriteFile(temp, content, 0o644))
	past := time.Now().Add(-time.Hour)
	require.NoError(y.t, os.Chtimes(temp, past, past))
	require.NoError(y.t, os.Rename(temp, file))
	return file
}

// clip puts a video into the gallery in one step.
func (y *yard) clip(name string) {
	y.t.Helper()
	content, err := os.ReadFile(clipFile(y.t))
	require.NoError(y.t, err)
	y.file(name, content)
}

func (y *yard) status() wire.Device {
	y.t.Helper()
	s, err := y.device.Told.Status(context.Background())
	require.NoError(y.t, err)
	return s
}

func (y *yard) until(what string, is func(wire.Device) bool) wire.Device {
	y.t.Helper()
	var last wire.Device
	for deadline := time.Now().Add(180 * time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		if last = y.status(); is(last) {
			return last
		}
	}
	require.Failf(y.t, "never: "+what, "%+v", last)
	return last
}

func counts(state queue.State, n int64) func(wire.Device) bool {
	return func(s wire.Device) bool {
		total := int64(0)
		for _, a := range s.States {
			total += a.N
		}
		return s.States[state].N == n && total >= n
	}
}

func heldBy(name gate.Name, n int64) func(wire.Device) bool {
	return func(s wire.Device) bool {
		total := int64(0)
		for _, h := range s.Holds {
			if h.Gate == name {
				total += h.N
			}
		}
		return total == n
	}
}

func (y *yard) copy(name string) records.Copy {
	y.t.Helper()
	found, err := y.records.Catalogue.Find(context.Background(), name, 5)
	require.NoError(y.t, err)
	require.NotEmpty(y.t, found, name)
	of, err := y.records.Catalogue.CopiesOf(context.Background(), []int64{found[0].ID})
	require.NoError(y.t, err)
	return of[found[0].ID][0]
}

// copiesIn lists the copies of a device's records in a state, as it is recorded.
func copiesIn(t *testing.T, r *records.Records, state queue.State) (list []records.Copy) {
	t.Helper()
	items, err := r.Catalogue.Items(context.Background(),
		records.Wanted{Standing: func(records.Standing) bool { return true }, Limit: 10_000}, time.Now())
	require.NoError(t, err)
	for _, it := range items {
		of, err := r.Catalogue.CopiesOf(context.Background(), []int64{it.ID})
		require.NoError(t, err)
		for _, c := range of[it.ID] {
			if c.State == state {
				list = append(list, c)
			}
		}
	}
	return list
}

func (y *yard) story(name string) string {
	y.t.Helper()
	events, err := y.records.Queue.Story(context.Background(), y.copy(name).Item)
	require.NoError(y.t, err)
	var b strings.Builder
	for _, e := range events {
		fmt.Fprintf(&b, "%s: %s\n", e.State, e.Says)
	}
	return b.String()
}

// stored reads what lies at the storage under final names, by hash.
func (y *yard) stored() map[string]string {
	y.t.Helper()
	byHash := map[string]string{}
	root := y.dir + "/locker"
	require.NoError(y.t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() && strings.HasSuffix(p, "/"+destination.TempDir) {
			return filepath.SkipDir // what lies there comes and goes
		}
		if err != nil || d.IsDir() || strings.Contains(p, destination.TempDir) ||
			strings.Contains(p, "/"+destination.RecordDir+"/") {
			return err
		}
		content, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		sum := hash(content)
		rel, _ := filepath.Rel(root, p)
		assert.Empty(y.t, byHash[sum], "the same content lies there twice: %s", rel)
		byHash[sum] = rel
		return nil
	}))
	return byHash
}

func hash(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// whole sees that every file of the gallery lies at the storage, whole, once,
// and that nothing else does.
func (y *yard) whole() {
	y.t.Helper()
	stored := y.stored()
	want := map[string]bool{}
	require.NoError(y.t, filepath.WalkDir(y.dir+"/phone/DCIM", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(p)
		want[hash(content)] = true
		assert.Contains(y.t, stored, hash(content), p)
		return err
	}))
	assert.Len(y.t, stored, len(want))
}

func TestAPictureGoesUpByItselfAndIsProven(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.picture("Camera/IMG_1.jpg", 1)
	y.until("safe", counts(queue.Safe, 1))
	c := y.copy("IMG_1.jpg")
	assert.Equal(t, "2026/03/IMG_1.jpg", c.Remote)
	assert.Equal(t, proof.ReadBack, c.Proof)
	assert.Positive(t, c.ProvenMS)
	assert.Equal(t, "sending: Over Wi-Fi.\nproving: Sent 14 kB as 2026/03/IMG_1.jpg.\nsafe: Read back whole.\n",
		strings.ReplaceAll(y.story("IMG_1.jpg"), words.Bytes(c.Bytes), "14 kB"))
	y.whole()
}

func TestGatesHoldAndLetGo(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	for i := range 5 {
		y.picture(fmt.Sprintf("%d.jpg", i), i)
	}
	y.clip("clip.mp4")
	y.until("no network", heldBy(gate.Network, 6))
	low := home
	low.Battery = 20
	y.sensor.Put(low)
	s := y.until("no power", heldBy(gate.Power, 6))
	assert.Equal(t, "Waits for the charger or a battery of at least 40%; the battery is at 20% and not charging.",
		s.Holds[0].Says)
	require.NoError(t, y.device.Orders.Pause(t.Context(), time.Time{}))
	y.until("paused", heldBy(gate.Pause, 6))
	y.sensor.Put(home)
	require.NoError(t, y.device.Orders.Resume(t.Context()))
	y.until("all safe", counts(queue.Safe, 6))
	y.whole()
}

func TestAPauseEndsByItselfAndOutlivesARestart(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	require.NoError(t, y.device.Orders.Pause(t.Context(), time.Now().Add(3*time.Second)))
	y.picture("1.jpg", 1)
	y.until("paused", heldBy(gate.Pause, 1))
	y.stop()
	y.start()
	y.until("still paused", heldBy(gate.Pause, 1))
	y.until("safe", counts(queue.Safe, 1))
}

func TestCellularStaysWithinItsAllowance(t *testing.T) {
	t.Parallel()
	y := setup(t, away)
	var total int64
	for i := range 20 {
		info, err := os.Stat(y.picture(fmt.Sprintf("%02d.jpg", i), i))
		require.NoError(t, err)
		total += info.Size()
	}
	require.Greater(t, total, int64(300_000), "more than the allowance")
	s := y.until("spent", func(s wire.Device) bool {
		return heldBy(gate.Allowance, s.States[queue.Waiting].N)(s) && s.States[queue.Proving].N > 3 && len(s.Sends) == 0
	})
	assert.Zero(t, s.States[queue.Safe].N, "a proof is not read back over a network that costs")
	assert.True(t, heldBy(gate.Proof, s.States[queue.Proving].N)(s))
	var spent, limit int64
	for _, l := range s.Lanes {
		if l.Over == plan.Cellular {
			spent, limit = l.Spent, l.Limit
		}
	}
	assert.EqualValues(t, 300_000, limit)
	assert.LessOrEqual(t, spent, limit)
	assert.LessOrEqual(t, y.storage.Used(), limit)
	y.stop()
	y.start()
	y.until("spent after a restart", func(s wire.Device) bool {
		return len(s.Sends) == 0 && s.States[queue.Waiting].N > 0 && heldBy(gate.Allowance, s.States[queue.Waiting].N)(s)
	})
	assert.LessOrEqual(t, y.storage.Used(), limit)
	y.sensor.Put(home)
	y.until("home", counts(queue.Safe, 20))
	y.whole()
}

func TestSendNowSaysWhatItCosts(t *testing.T) {
	t.Parallel()
	y := setup(t, away)
	y.clip("clip.mp4")
	y.until("held", heldBy(gate.Network, 1))
	ids := []string{y.records.Catalogue.Key(y.copy("clip.mp4").Item)}
	_, err := y.device.Orders.SendNow(t.Context(), ids, false)
	var needs tell.NeedsMetered
	require.ErrorAs(t, err, &needs)
	assert.Contains(t, needs.Cost.Says, "of metered data over cellular")
	assert.True(t, heldBy(gate.Network, 1)(y.status()), "nothing was ordered")
	_, err = y.device.Orders.SendNow(t.Context(), ids, true)
	require.NoError(t, err)
	s := y.until("sent", counts(queue.Proving, 1))
	for _, l := range s.Lanes {
		if l.Over == plan.Cellular {
			assert.Positive(t, l.Spent, "it counts")
		}
	}
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 1))
}

func TestWhatIsUnderWayStopsWhenItBeginsToCost(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.storage.SetFaults(standin.Faults{Stalls: 1})
	y.file("long.jpg", append(jpeg(t), make([]byte, 8<<20)...))
	y.until("sending", counts(queue.Sending, 1))
	y.sensor.Put(away)
	y.until("stopped", func(s wire.Device) bool { return s.States[queue.Waiting].N == 1 && len(s.Sends) == 0 })
	assert.Contains(t, y.story("long.jpg"), "A gate shut while it was sent.")
	y.storage.SetFaults(standin.Faults{})
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 1))
	y.whole()
}

func jpeg(t *testing.T) []byte {
	t.Helper()
	content, err := standin.JPEG(77, 320, time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	return content
}

func TestGatesThatFlapLeaveNothingStuck(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	for i := range 40 {
		y.picture(fmt.Sprintf("%02d.jpg", i), i)
	}
	y.until("found", heldBy(gate.Network, 40))
	for i := range 150 {
		y.sensor.Put([]gate.Conditions{home, away, none}[i%3])
		time.Sleep(time.Duration(i%7) * time.Millisecond)
	}
	y.sensor.Put(home)
	y.until("all safe", func(s wire.Device) bool {
		require.Zero(t, s.States[queue.Stuck].N, "a gate is no reason to be stuck")
		return s.States[queue.Safe].N == 40
	})
	y.whole()
}

func TestTheSameContentIsSentOnce(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.picture("a/one.jpg", 1)
	y.picture("b/same.jpg", 1)
	y.picture("c/IMG.jpg", 2)
	y.picture("d/IMG.jpg", 3)
	y.until("found", heldBy(gate.Network, 4))
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 4))
	stored := y.stored()
	assert.Len(t, stored, 3)
	y.picture("e/later.jpg", 2)
	y.until("another safe", counts(queue.Safe, 5))
	assert.Contains(t, y.story("later.jpg"), "it is not sent again")
	assert.Len(t, y.stored(), 3)
	clash := y.copy("c/IMG.jpg").Remote + y.copy("d/IMG.jpg").Remote
	assert.Contains(t, clash, "2026/03/IMG.jpg")
	assert.Regexp(t, `2026/03/IMG \([0-9a-f]{8}\)\.jpg`, clash)
}

func TestAForeignFileIsNeverOverwritten(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	require.NoError(t, os.MkdirAll(y.dir+"/locker/2026/03", 0o755))
	for _, name := range []string{"IMG.jpg", "same.jpg"} {
		require.NoError(t, os.WriteFile(y.dir+"/locker/2026/03/"+name, []byte("somebody else's"), 0o644))
	}
	y.picture("IMG.jpg", 1)
	same, err := os.ReadFile(y.picture("same.jpg", 2))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(y.dir+"/locker/2026/03/same.jpg", same, 0o644))
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 2))
	content, err := os.ReadFile(y.dir + "/locker/2026/03/IMG.jpg")
	require.NoError(t, err)
	assert.Equal(t, "somebody else's", string(content))
	assert.Regexp(t, `^2026/03/IMG \([0-9a-f]{8}\)\.jpg$`, y.copy("IMG.jpg").Remote)
	assert.Equal(t, "2026/03/same.jpg", y.copy("same.jpg").Remote, "the same content that was there before is recognised")
}

func TestStorageThatMisbehaves(t *testing.T) {
	t.Parallel()
	for name, f := range map[string]standin.Faults{
		"errors now and then": {Errors: 0.2},
		"busy now and then":   {Busy: 0.2},
		"resets":              {Resets: 0.3},
		"stalls":              {Stalls: 0.1},
		"truncates":           {Truncate: 0.3},
		"changes bytes":       {Flip: 0.3},
		"everything":          {Errors: 0.05, Busy: 0.05, Resets: 0.1, Stalls: 0.03, Truncate: 0.1, Flip: 0.1},
	} {
		t.Run(name, func(t *testing.T) {
			y := setup(t, none)
			for i := range 12 {
				y.picture(fmt.Sprintf("%02d.jpg", i), i)
			}
			y.storage.SetFaults(f)
			y.sensor.Put(home)
			deadline := time.Now().Add(8 * time.Second)
			y.until("safe under faults, or time to mend them", func(s wire.Device) bool {
				_, err := y.device.Orders.Retry(t.Context(), nil) // the keeper's part, for what got stuck
				require.NoError(t, err)
				return s.States[queue.Safe].N == 12 || time.Now().After(deadline)
			})
			y.storage.SetFaults(standin.Faults{})
			y.until("all safe", func(s wire.Device) bool {
				_, err := y.device.Orders.Retry(t.Context(), nil)
				require.NoError(t, err)
				return s.States[queue.Safe].N == 12
			})
			if f.Flip > 0 { // what was damaged stays there, under its own name, and is not called safe
				y.safeIsWhole()
			} else {
				y.whole()
			}
		})
	}
}

func TestAMarkerThatTheStorageDamagesIsNotPutInPlace(t *testing.T) {
	t.Parallel()
	for says, f := range map[string]standin.Faults{"kept 8 of 17 bytes": {Truncate: 1},
		"did not keep the marker of its place as it was sent": {Flip: 1}} {
		t.Run(says, func(t *testing.T) {
			y := setup(t, none)
			y.storage.SetFaults(f)
			y.picture("a.jpg", 1)
			y.sensor.Put(home)
			s := y.until("held", heldBy(gate.Trouble, 1))
			assert.Contains(t, s.Holds[0].Says, says)
			assert.NoFileExists(t, y.dir+"/locker/"+destination.MarkerName)
			y.storage.SetFaults(standin.Faults{})
			y.until("safe", counts(queue.Safe, 1))
			marker, err := os.ReadFile(y.dir + "/locker/" + destination.MarkerName)
			require.NoError(t, err)
			assert.Regexp(t, "^[0-9a-f]{16}\n$", string(marker))
		})
	}
}

func TestWhatStorageDamagedTimeAndAgainIsSafeOnceItIsMended(t *testing.T) {
	t.Parallel()
	y := setup(t, home) // whose place has a marker that is whole
	y.storage.SetFaults(standin.Faults{Flip: 1})
	y.picture("IMG.jpg", 1)
	damaged := func() int {
		there, err := filepath.Glob(y.dir + "/locker/2026/03/IMG*")
		require.NoError(t, err)
		return len(there)
	}
	y.until("damaged under many names", func(wire.Device) bool {
		_, err := y.device.Orders.Retry(t.Context(), nil)
		require.NoError(t, err)
		return damaged() > 6
	})
	y.storage.SetFaults(standin.Faults{})
	y.until("safe", func(s wire.Device) bool {
		_, err := y.device.Orders.Retry(t.Context(), nil)
		require.NoError(t, err)
		return s.States[queue.Safe].N == 1
	})
	y.safeIsWhole()
}

// safeIsWhole sees that what every safe copy names is what its file is.
func (y *yard) safeIsWhole() {
	y.t.Helper()
	copies := copiesIn(y.t, y.records, queue.Safe)
	for _, c := range copies {
		want, err := os.ReadFile(filepath.Join(y.dir, "phone", c.Path()))
		require.NoError(y.t, err)
		got, err := os.ReadFile(filepath.Join(y.dir, "locker", c.Remote))
		require.NoError(y.t, err)
		assert.Equal(y.t, hash(want), hash(got), c.Path())
	}
}

func TestStorageThatNeedsTheKeeper(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		faults standin.Faults
		says   string
		todo   string
	}{
		"full": {standin.Faults{Full: true}, "locker: The storage is full.",
			"Make room at the storage or enlarge it; sending goes on by itself."},
		"password": {standin.Faults{Refuse: true}, "locker: The storage refuses the user or the password.",
			"Check the user and the password that the plan points to; sending goes on by itself when they are right."},
	} {
		t.Run(name, func(t *testing.T) {
			y := setup(t, none)
			y.storage.SetFaults(c.faults)
			for i := range 8 {
				y.picture(fmt.Sprintf("%d.jpg", i), i)
			}
			y.until("found", heldBy(gate.Network, 8))
			y.sensor.Put(home)
			s := y.until("held for the keeper", heldBy(gate.Trouble, 8))
			require.Len(t, s.Holds, 1, "one hold, and no flood of failures")
			assert.Equal(t, c.says, s.Holds[0].Says)
			assert.Equal(t, c.todo, s.Holds[0].Todo)
			assert.True(t, s.Holds[0].You)
			assert.Zero(t, s.States[queue.Stuck].N)
			y.storage.SetFaults(standin.Faults{})
			y.until("it goes on by itself", counts(queue.Safe, 8))
			y.whole()
		})
	}
}

func TestStorageThatIsAway(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.storage.SetFaults(standin.Faults{Away: true})
	y.picture("1.jpg", 1)
	s := y.until("held", heldBy(gate.Trouble, 1))
	assert.Contains(t, s.Holds[0].Says, "locker: The connection to 127.0.0.1")
	assert.False(t, s.Holds[0].You, "it mends itself")
	assert.False(t, s.Holds[0].Opens.IsZero(), "and is tried again at a known time")
	y.storage.SetFaults(standin.Faults{})
	y.until("safe", counts(queue.Safe, 1))
}

func TestACopyThatNeverComesBackWholeIsStuckAndCanBeRetried(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.storage.SetFaults(standin.Faults{Flip: 1})
	y.picture("1.jpg", 1)
	y.until("stuck", counts(queue.Stuck, 1))
	c := y.copy("1.jpg")
	assert.Equal(t, 3, c.Tries)
	assert.Contains(t, c.Says, "is not what was sent")
	assert.Contains(t, c.Todo, "Check its disk and memory, then retry.")
	y.storage.SetFaults(standin.Faults{})
	n, err := y.device.Orders.Retry(t.Context(), []string{y.records.Catalogue.Key(c.Item)})
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	y.until("safe", counts(queue.Safe, 1))
	y.safeIsWhole()
}

func TestTheSourceMovesUnderIt(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(y *yard, file string){
		"vanishes": func(y *yard, file string) { require.NoError(y.t, os.Remove(file)) },
		"changes": func(y *yard, file string) {
			require.NoError(y.t, os.WriteFile(file, append(jpeg(y.t), make([]byte, 3<<20)...), 0o644))
		},
		"is replaced": func(y *yard, file string) {
			require.NoError(y.t, os.WriteFile(file+".part", append(jpeg(y.t), make([]byte, 9<<20)...), 0o644))
			require.NoError(y.t, os.Rename(file+".part", file))
		},
		"shrinks": func(y *yard, file string) { require.NoError(y.t, os.Truncate(file, 2<<20)) },
		"keeps its size and time": func(y *yard, file string) {
			info, err := os.Stat(file)
			require.NoError(y.t, err)
			f, err := os.OpenFile(file, os.O_WRONLY, 0)
			require.NoError(y.t, err)
			_, err = f.WriteAt([]byte("other bytes"), info.Size()-100)
			require.NoError(y.t, err)
			require.NoError(y.t, f.Close())
			require.NoError(y.t, os.Chtimes(file, info.ModTime(), info.ModTime()))
		},
	} {
		t.Run(name, func(t *testing.T) {
			y := setup(t, home)
			y.storage.SetFaults(standin.Faults{Stalls: 1})
			file := y.file("moves.jpg", append(jpeg(t), make([]byte, 12<<20)...))
			y.until("under way", counts(queue.Sending, 1))
			change(y, file)
			y.storage.SetFaults(standin.Faults{})
			if name == "vanishes" {
				// The open file may still be sent whole: then it is safe.
				y.until("ended", func(s wire.Device) bool { return s.States[queue.Skipped].N+s.States[queue.Safe].N == 1 })
				return
			}
			y.until("its content is safe", func(s wire.Device) bool {
				return s.States[queue.Safe].N >= 1 && len(s.Sends) == 0 && s.States[queue.Waiting].N == 0
			})
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Contains(t, y.stored(), hash(want), "what is called safe is what lies on the device")
		})
	}
}

func TestOddFiles(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.file("empty.jpg", nil)
	y.file("cut.jpg", jpeg(t)[:5000])
	y.file("notes.txt", []byte("larch"))
	y.file("picture without an ending", jpeg(t))
	for i, name := range []string{strings.Repeat("n", 251) + ".jpg", "new\nline.jpg", `"q" '50%' #1.jpg`, "tide 🌊.jpg",
		"cafe\u0301.jpg", "bad\xff.jpg"} {
		y.picture(name, 20+i)
	}
	y.until("what can be is safe", func(s wire.Device) bool {
		return s.States[queue.Safe].N == 8 && s.States[queue.Skipped].N == 1
	})
	assert.Equal(t, "The file is empty: it has 0 bytes.", y.copy("empty.jpg").Says)
	y.safeIsWhole()
	y.file("empty.jpg", jpeg(t)[:9000])
	y.until("filled, it goes too", counts(queue.Safe, 9))
}

func TestWhatATryLeftBehindIsRemovedLater(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.storage.SetFaults(standin.Faults{Stalls: 1})
	y.file("notes.txt", []byte("larch")) // a folder that is suddenly empty makes nothing gone
	file := y.file("long.jpg", append(jpeg(t), make([]byte, 8<<20)...))
	parts := func() []string {
		left, err := filepath.Glob(y.dir + "/locker/" + destination.TempDir + "/*.part")
		require.NoError(t, err)
		return left
	}
	y.until("half there", func(wire.Device) bool { return len(parts()) == 1 })
	y.storage.SetFaults(standin.Faults{Away: true})
	y.until("cut", heldBy(gate.Trouble, 1))
	require.NoError(t, os.Remove(file))
	y.until("no longer wanted", counts(queue.Skipped, 1))
	require.Len(t, parts(), 1)
	y.storage.SetFaults(standin.Faults{})
	require.Eventually(t, func() bool {
		_, err := y.device.Orders.Retry(t.Context(), nil) // the keeper looks at it
		return assert.NoError(t, err) && len(parts()) == 0
	}, time.Minute, 20*time.Millisecond)
}

func TestWhatACutTryLeftIsRemovedWhenItsContentIsThereAlready(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	content := append(jpeg(t), make([]byte, 8<<20)...)
	y.storage.SetFaults(standin.Faults{Stalls: 1})
	y.file("first.jpg", content)
	left := func() int {
		parts, err := filepath.Glob(y.dir + "/locker/" + destination.TempDir + "/*.part")
		require.NoError(t, err)
		return len(parts)
	}
	y.until("half there", func(wire.Device) bool { return left() == 1 })
	y.sensor.Put(none) // it is cut where it cannot clean up
	y.until("cut", heldBy(gate.Network, 1))
	y.storage.SetFaults(standin.Faults{})
	y.file("second.jpg", content)
	y.until("both wait", heldBy(gate.Network, 2))
	y.sensor.Put(home)
	y.until("both safe", counts(queue.Safe, 2))
	require.Eventually(t, func() bool { return left() == 0 }, time.Minute, 10*time.Millisecond)
	y.whole()
}

func TestAStopInTheMiddleGoesOn(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.storage.SetFaults(standin.Faults{Stalls: 1})
	y.file("long.jpg", append(jpeg(t), make([]byte, 8<<20)...))
	y.until("under way", counts(queue.Sending, 1))
	y.stop()
	y.storage.SetFaults(standin.Faults{})
	y.start()
	y.until("safe", counts(queue.Safe, 1))
	assert.Contains(t, y.story("long.jpg"), "waiting: The service stopped.")
	y.whole()
}

func TestAChangedPlanTakesEffectAtOnce(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.picture("1.jpg", 1)
	y.until("held", heldBy(gate.Network, 1))
	p, err := plantext.Parse("plan", []byte(strings.Replace(yardPlan, "take: [photo, video]\n    to",
		"take: [video]\n    to", 1)))
	require.Error(t, err, "its lane takes photos")
	require.Nil(t, p)
	p, err = plantext.Parse("plan", []byte(strings.NewReplacer("take: [photo, video]", "take: [video]",
		"        take: [photo]\n", "").Replace(yardPlan)))
	require.NoError(t, err)
	y.device.SetPlan(p)
	y.until("skipped", counts(queue.Skipped, 1))
	p, err = plantext.Parse("plan", []byte(yardPlan))
	require.NoError(t, err)
	y.device.SetPlan(p)
	y.until("wanted again", heldBy(gate.Network, 1))
}
