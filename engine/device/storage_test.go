package device_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/destination/s3"
	"yardtide/engine/destination/sftp"
	"yardtide/engine/destination/webdav"
	"yardtide/engine/device"
	"yardtide/engine/fleet"
	"yardtide/engine/proof"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/engine/scan"
	"yardtide/engine/sensor"
	"yardtide/engine/upkeep"
	"yardtide/standin"
	"yardtide/standin/apache"
	"yardtide/standin/gateway"
	"yardtide/standin/sshd"
	"yardtide/wire"
)

// house is several devices of one process with a destination named locker.
type house struct {
	t       *testing.T
	dir     string
	plan    string
	open    func() destination.Driver
	sensors map[string]*sensor.Set
	fleet   *fleet.Fleet
	devices map[string]*device.Device
	late    map[string]func() // what happens as a device was told whether anybody has the like (see late)
	stop    func()
}

// othersOf is what a device knows of the others.
func (h *house) othersOf(name string) device.Others {
	if then := h.late[name]; then != nil {
		return late{h.fleet, then}
	}
	return h.fleet
}

// newHouse starts devices with one rule; more is put below the destination, and
// ruleMore below the rule.
func newHouse(t *testing.T, kind, more, ruleMore string, open func() destination.Driver, names ...string) *house {
	t.Helper()
	h := &house{t: t, dir: t.TempDir(), open: open, sensors: map[string]*sensor.Set{}}
	where := map[string]string{"folder": "path: /x", "webdav": "url: http://x/",
		"sftp": "address: x:1\n    host-key: SHA256:uNiVztksCsDhcc0u9e8BrrJlSV9OrFmvkHZtEEn2b3c\n    user: x\n    " +
			"key-from: kept:x",
		"s3": "url: http://x\n    bucket: xxx\n    user: x\n    password-from: kept:x"}[kind]
	h.plan = fmt.Sprintf("yard: Test\ntimezone: UTC\ndestinations:\n  locker:\n    kind: %s\n    %s\n%s\nrules:\n  "+
		"all:\n    take: [photo, video]\n    to: [locker]\n    lanes: [{over: wifi}]\n%s\ndevices:\n", kind, where, more,
		ruleMore)
	for _, name := range names {
		h.plan += "  " + name + ":\n    sources: [{folder: DCIM, rule: all}]\n"
		require.NoError(t, os.MkdirAll(filepath.Join(h.dir, name, "DCIM"), 0o755))
		h.sensors[name] = &sensor.Set{}
		h.sensors[name].Put(home)
	}
	h.start()
	t.Cleanup(func() { h.stop() })
	return h
}

func (h *house) start() {
	h.t.Helper()
	p, err := plantext.Parse("plan", []byte(h.plan))
	require.NoError(h.t, err)
	driver := h.open()
	h.fleet, h.devices = &fleet.Fleet{}, map[string]*device.Device{}
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	var files []*records.Records
	for name := range p.Devices {
		r, err := recordstest.Open(ctx, filepath.Join(h.dir, "data", name, "records.db"))
		require.NoError(h.t, err)
		files = append(files, r)
		d, err := device.New(ctx, device.Options{
			Name: name, Root: filepath.Join(h.dir, name), Records: r, Sensor: h.sensors[name], Others: h.othersOf(name),
			Driver:  func(string) (destination.Driver, error) { return driver, nil },
			Changed: func() {}, Log: noFault(h.t), Grace: 200 * time.Millisecond,
			Scan:   scan.Options{Quiet: 50 * time.Millisecond, Poll: 200 * time.Millisecond},
			Jitter: func() float64 { return 0.5 }, Wait: func(d time.Duration) time.Duration { return d / 100 },
		})
		require.NoError(h.t, err)
		h.devices[name] = d
		d.SetPlan(p)
	}
	for _, d := range h.devices {
		running.Go(func() { assert.NoError(h.t, d.Run(ctx)) })
	}
	h.stop = sync.OnceFunc(func() {
		cancel()
		running.Wait()
		assert.NoError(h.t, driver.Close())
		for _, r := range files {
			assert.NoError(h.t, r.Close())
		}
	})
}

func (h *house) file(on, name string, content []byte) {
	h.t.Helper()
	file := filepath.Join(h.dir, on, "DCIM", name)
	require.NoError(h.t, os.WriteFile(file+".new", content, 0o644))
	past := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	require.NoError(h.t, os.Chtimes(file+".new", past, past))
	require.NoError(h.t, os.Rename(file+".new", file))
}

func (h *house) until(on, what string, is func(wire.Device) bool) wire.Device {
	h.t.Helper()
	y := &yard{t: h.t, device: h.devices[on]}
	return y.until(on+": "+what, is)
}

func (h *house) copy(on, name string) records.Copy {
	h.t.Helper()
	y := &yard{t: h.t, records: h.devices[on].Records}
	return y.copy(name)
}

func (h *house) story(on, name string) string {
	h.t.Helper()
	y := &yard{t: h.t, records: h.devices[on].Records}
	return y.story(name)
}

// long is a picture with so many bytes after it.
func long(t *testing.T, n int) []byte {
	t.Helper()
	content := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(content) // it never fails
	return append(jpeg(t), content...)
}

// real are the storages that can go on after a cut: each makes drivers, and a
// view of what lies there.
var real = map[string]func(t *testing.T) (open func() destination.Driver, root string){
	"folder": func(t *testing.T) (func() destination.Driver, string) {
		root := t.TempDir()
		return func() destination.Driver { return folder.New(root) }, root
	},
	"webdav": func(t *testing.T) (func() destination.Driver, string) {
		a, err := apache.Start(t.Context(), t.TempDir(), apache.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, a.Close()) })
		return func() destination.Driver {
			d, err := webdav.New(webdav.Options{URL: a.URL})
			require.NoError(t, err)
			return d
		}, a.Root
	},
	"sftp": func(t *testing.T) (func() destination.Driver, string) {
		s, err := sshd.Start(t.Context(), t.TempDir(), sshd.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, s.Close()) })
		root := t.TempDir()
		return func() destination.Driver {
			return sftp.New(sftp.Options{Address: s.Address, Path: root, User: s.User, HostKey: s.HostKey,
				Key: func() ([]byte, error) { return s.Key, nil }})
		}, root
	},
	"s3": func(t *testing.T) (func() destination.Driver, string) {
		g := &gateway.Server{Root: t.TempDir()}
		require.NoError(t, g.Start(t.Context(), "locker"))
		t.Cleanup(func() { assert.NoError(t, g.Close()) })
		return func() destination.Driver {
			d, err := s3.New(s3.Options{URL: g.Endpoint, Bucket: "locker", User: g.User,
				Password: func() (string, error) { return g.Password, nil }})
			require.NoError(t, err)
			return d
		}, g.Files("locker")
	},
}

func TestALargeFileGoesOnAfterACut(t *testing.T) {
	t.Parallel()
	for kind, start := range real {
		t.Run(kind, func(t *testing.T) {
			open, root := start(t)
			h := newHouse(t, kind, "", "", open, "phone")
			h.stop()
			// Slow enough to be cut in the middle.
			fast := h.plan
			h.plan = strings.Replace(fast, "  phone:\n", "  phone:\n    limit: 12 MB/s\n", 1)
			h.start()
			content := long(t, 60<<20)
			h.file("phone", "long.jpg", content)
			h.until("phone", "half of it sent", func(s wire.Device) bool {
				return len(s.Sends) == 1 && s.Sends[0].Sent > 40<<20
			})
			assert.GreaterOrEqual(t, h.copy("phone", "long.jpg").Sent, int64(24<<20), "on record, should a kill come now")
			h.stop()
			h.plan = fast
			h.start()
			h.until("phone", "safe", counts(queue.Safe, 1))
			assert.Regexp(t, `It goes on after \d+ MB that are there`, h.story("phone", "long.jpg"))
			c := h.copy("phone", "long.jpg")
			assert.LessOrEqual(t, c.SentTwice(), int64(16<<20), "at most one part goes twice")
			there, err := os.ReadFile(filepath.Join(root, c.Remote))
			require.NoError(t, err)
			assert.Equal(t, hash(content), hash(there))
			require.Eventually(t, func() bool { // what was cut may arrive late: it is swept
				parts, err := filepath.Glob(root + "/" + destination.TempDir + "/*.part")
				return assert.NoError(t, err) && len(parts) == 0
			}, time.Minute, 20*time.Millisecond)
		})
	}
}

func TestAPartIsNotBuiltOnWhenTheFileWasReplaced(t *testing.T) {
	t.Parallel()
	open, root := real["sftp"](t)
	h := newHouse(t, "sftp", "", "", open, "phone")
	h.stop()
	fast := h.plan
	h.plan = strings.Replace(fast, "  phone:\n", "  phone:\n    limit: 10 MB/s\n", 1)
	h.start()
	first, second := long(t, 40<<20), long(t, 40<<20)
	for i := range second[1<<20:] {
		second[1<<20+i] ^= 0x55
	}
	h.file("phone", "long.jpg", first)
	h.until("phone", "half of it sent", func(s wire.Device) bool { return len(s.Sends) == 1 && s.Sends[0].Sent > 20<<20 })
	h.stop()
	h.file("phone", "long.jpg", second) // of the same size and time
	h.plan = fast
	h.start()
	want := hash(second)
	h.until("phone", "safe", func(s wire.Device) bool {
		c := h.copy("phone", "long.jpg")
		return c.State == queue.Safe && c.SHA256 == want
	})
	there, err := os.ReadFile(filepath.Join(root, h.copy("phone", "long.jpg").Remote))
	require.NoError(t, err)
	assert.Equal(t, want, hash(there))
}

// late is what a device knows of the others, where something happens between the answer whether anybody sends the
// like and its being used.
type late struct {
	*fleet.Fleet
	then func()
}

func (l late) Alike(ctx context.Context, device string, c records.Copy, look string) (bool, error) {
	is, err := l.Fleet.Alike(ctx, device, c, look)
	l.then()
	return is, err
}

// Two devices find the same bytes: one as the other was just told that nobody has the like. They go once.
func TestWhatIsFoundAsTheLikeIsAskedForIsSentOnce(t *testing.T) {
	t.Parallel()
	open, root := inFolder(t)
	h := newHouse(t, "folder", "", "", open, "phone", "tablet")
	h.stop()
	same := long(t, 100_000)
	h.late = map[string]func(){"phone": sync.OnceFunc(func() {
		h.file("tablet", "b.jpg", same)
		for end := time.Now().Add(2 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			st, err := h.devices["tablet"].Told.Status(context.Background())
			if assert.NoError(t, err) && counts(queue.Safe, 1)(st) {
				return
			}
		}
	})}
	h.start()
	h.file("phone", "a.jpg", same)
	for _, on := range []string{"phone", "tablet"} {
		h.until(on, "safe", counts(queue.Safe, 1))
	}
	entries, err := os.ReadDir(root + "/2026/05")
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	assert.Contains(t, h.story("tablet", "b.jpg"), "it is not sent again")
}

func inFolder(t *testing.T) (func() destination.Driver, string) { return real["folder"](t) }

func TestTheSameBytesOnTwoDevicesAreSentOnce(t *testing.T) {
	t.Parallel()
	for name, each := range map[string]bool{"once": false, "each": true} {
		t.Run(name, func(t *testing.T) {
			open, root := inFolder(t)
			more := ""
			if each {
				more = "    store-each: true"
			}
			h := newHouse(t, "folder", "", more, open, "phone", "tablet")
			same := long(t, 100_000)
			for i := range 6 {
				h.file("phone", fmt.Sprintf("a%d.jpg", i), append(same, byte(i)))
				h.file("tablet", fmt.Sprintf("b%d.jpg", i), append(same, byte(i)))
			}
			for _, on := range []string{"phone", "tablet"} {
				h.until(on, "safe", counts(queue.Safe, 6))
			}
			entries, err := os.ReadDir(root + "/2026/05")
			require.NoError(t, err)
			if each {
				assert.Len(t, entries, 12)
				return
			}
			assert.Len(t, entries, 6)
			joined := 0
			for i := range 6 {
				for on, name := range map[string]string{"phone": "a", "tablet": "b"} {
					if strings.Contains(h.story(on, fmt.Sprintf("%s%d.jpg", name, i)), "it is not sent again") {
						joined++
					}
				}
			}
			assert.Equal(t, 6, joined)
		})
	}
}

func TestRoomIsReservedBeforeSending(t *testing.T) {
	t.Parallel()
	open, root := inFolder(t)
	h := newHouse(t, "folder", "    keep-free: 1 MB", "", open, "phone", "tablet")
	h.fleet.SetSpace("locker", destination.Space{Free: 1_480_000, Used: 0}, h.fleet.Landed("locker")) // room for four
	for i := range 6 {
		h.file("phone", fmt.Sprintf("a%d.jpg", i), long(t, 100_000+i))
		h.file("tablet", fmt.Sprintf("b%d.jpg", i), long(t, 100_100+i))
	}
	for _, on := range []string{"phone", "tablet"} {
		h.until(on, "found", func(s wire.Device) bool { return s.States[queue.Waiting].N+s.States[queue.Safe].N == 6 })
	}
	safe := func() (n int64) {
		for _, on := range []string{"phone", "tablet"} {
			h.until(on, "held", func(s wire.Device) bool {
				return len(s.Sends) == 0 && s.States[queue.Waiting].N > 0 && heldBy(gate.Space, s.States[queue.Waiting].N)(s)
			})
		}
		for _, on := range []string{"phone", "tablet"} {
			s := h.until(on, "held", func(s wire.Device) bool { return len(s.Sends) == 0 })
			assert.Zero(t, s.States[queue.Stuck].N)
			n += s.States[queue.Safe].N
			assert.Regexp(t, `^locker has .*1\.0 MB are kept free\); the smallest of these is`, s.Holds[0].Says)
			assert.True(t, s.Holds[0].You)
			assert.NotEmpty(t, s.Holds[0].Todo)
		}
		return n
	}
	assert.EqualValues(t, 4, safe(), "as many as there is room for, on both devices together")
	there, coming, err := h.fleet.Shares(t.Context(), "locker")
	require.NoError(t, err)
	n := map[bool]int64{}
	for _, share := range there {
		n[true] += share.N
	}
	for _, share := range coming {
		n[false] += share.N
	}
	assert.Equal(t, map[bool]int64{true: 4, false: 8}, n)
	h.fleet.SetSpace("locker", destination.Space{Free: 1 << 40, Used: 0}, h.fleet.Landed("locker"))
	for _, on := range []string{"phone", "tablet"} {
		h.until(on, "room was made", counts(queue.Safe, 6))
	}
	assert.DirExists(t, root)
}

func TestTheOpenRecordCanBeCheckedWithoutYardTide(t *testing.T) {
	t.Parallel()
	open, root := real["s3"](t)
	h := newHouse(t, "s3", "", "", open, "phone", "tablet")
	for i := range 4 {
		h.file("phone", fmt.Sprintf("it's %d.jpg", i), long(t, 1000+i))
		h.file("tablet", fmt.Sprintf("ü %d.jpg", i), long(t, 2000+i))
	}
	var sums []string
	require.Eventually(t, func() bool {
		var err error
		sums, err = filepath.Glob(root + "/" + destination.RecordDir + "/*/SHA256SUMS-*")
		require.NoError(t, err)
		lines := 0
		for _, file := range sums {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			lines += bytes.Count(text, []byte("\n"))
		}
		return lines == 8
	}, time.Minute, 20*time.Millisecond)
	check := exec.Command("sha256sum", append([]string{"-c", "--strict"}, relative(t, root, sums)...)...)
	check.Dir = root
	out, err := check.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, 8, bytes.Count(out, []byte(": OK")), "%s", out)

	published, err := os.ReadFile("../../docs/record.schema.json")
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(published))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("record.json", doc))
	schema, err := compiler.Compile("record.json")
	require.NoError(t, err)
	folders := map[string]bool{}
	index, err := filepath.Glob(root + "/" + destination.RecordDir + "/*/index-*.jsonl")
	require.NoError(t, err)
	n := 0
	for _, file := range index {
		folders[filepath.Dir(file)] = true
		f, err := os.Open(file)
		require.NoError(t, err)
		for lines := bufio.NewScanner(f); lines.Scan(); n++ {
			line, err := jsonschema.UnmarshalJSON(bytes.NewReader(lines.Bytes()))
			require.NoError(t, err)
			assert.NoError(t, schema.Validate(line))
			var e upkeep.Entry
			require.NoError(t, json.Unmarshal(lines.Bytes(), &e))
			there, err := os.ReadFile(filepath.Join(root, e.Path))
			require.NoError(t, err)
			assert.Equal(t, e.SHA256, hash(there))
			assert.EqualValues(t, len(there), e.Size)
			assert.Equal(t, "photo", e.Kind)
			assert.Equal(t, "read back, SHA-256", e.Proof, "small objects go under their own names")
			assert.Equal(t, 2026, e.TakenAt.Year())
		}
		require.NoError(t, f.Close())
	}
	assert.Equal(t, 8, n)
	assert.Len(t, folders, 2, "each device has its own")
}

func relative(t *testing.T, root string, files []string) []string {
	t.Helper()
	var out []string
	for _, f := range files {
		rel, err := filepath.Rel(root, f)
		require.NoError(t, err)
		out = append(out, rel)
	}
	return out
}

func TestAProofTakenAgainFindsWhatIsLost(t *testing.T) {
	t.Parallel()
	for kind := range real {
		t.Run(kind, func(t *testing.T) {
			open, root := real[kind](t)
			h := newHouse(t, kind, "", "", open, "phone")
			for i := range 6 {
				h.file("phone", fmt.Sprintf("%d.jpg", i), long(t, 5000+i))
			}
			h.until("phone", "safe", counts(queue.Safe, 6))
			require.NoError(t, os.Remove(root+"/2026/05/1.jpg"))
			content, err := os.ReadFile(root + "/2026/05/2.jpg")
			require.NoError(t, err)
			content[2000] ^= 1
			require.NoError(t, os.WriteFile(root+"/2026/05/2.jpg", content, 0o644))

			n, err := h.devices["phone"].Orders.Reprove(t.Context(), "", 0)
			require.NoError(t, err)
			assert.EqualValues(t, 6, n)
			h.until("phone", "looked at", func(wire.Device) bool {
				proving, err := h.devices["phone"].Told.Proving(t.Context(), "")
				return assert.NoError(t, err) && proving.Left == 0
			})
			s := h.until("phone", "found", counts(queue.Stuck, 2))
			assert.EqualValues(t, 4, s.States[queue.Safe].N)
			missing, changed := h.copy("phone", "1.jpg"), h.copy("phone", "2.jpg")
			assert.Equal(t, "What was at 2026/05/1.jpg is no longer at the storage.", missing.Says)
			assert.Equal(t, "What lies at 2026/05/2.jpg is no longer what was proven.", changed.Says)
			assert.Contains(t, h.story("phone", "3.jpg"), "Proven again: ")

			_, err = h.devices["phone"].Orders.Retry(t.Context(), nil)
			require.NoError(t, err)
			h.until("phone", "sent again", counts(queue.Safe, 6))
			// The gateway goes on knowing of an object whose file was taken away.
			assert.Regexp(t, `^2026/05/1( \([0-9a-f]{8}\))?\.jpg$`, h.copy("phone", "1.jpg").Remote)
			assert.Regexp(t, `^2026/05/2 \([0-9a-f]{8}\)\.jpg$`, h.copy("phone", "2.jpg").Remote,
				"what lies there is left alone")
		})
	}
}

func TestWhatWasThereBeforeIsNotSentAgain(t *testing.T) {
	t.Parallel()
	open, root := real["webdav"](t)
	require.NoError(t, os.MkdirAll(root+"/old archive/1999", 0o777))
	require.NoError(t, os.Chmod(root+"/old archive", 0o777))
	kept, other := long(t, 50_000), long(t, 60_000)
	require.NoError(t, os.WriteFile(root+"/old archive/1999/keel 50%.jpg", kept, 0o644))
	changed := bytes.Clone(other)
	changed[30_000] ^= 1
	require.NoError(t, os.WriteFile(root+"/old archive/stern.jpg", changed, 0o644))
	h := newHouse(t, "webdav", "", "", open, "phone", "tablet")
	h.until("phone", "senses its network", func(s wire.Device) bool { return s.Conditions.Network == plan.WiFi })
	a, err := h.devices["phone"].Orders.Adopt(t.Context(), "locker", func(wire.Adopted) {})
	require.NoError(t, err)
	assert.EqualValues(t, 2, a.Files)
	h.file("tablet", "keel.jpg", kept)
	h.file("tablet", "stern.jpg", other)
	h.until("tablet", "safe", counts(queue.Safe, 2))
	assert.Equal(t, "old archive/1999/keel 50%.jpg", h.copy("tablet", "keel.jpg").Remote)
	assert.Equal(t, proof.ReadBack, h.copy("tablet", "keel.jpg").Proof)
	assert.Equal(t, "2026/05/stern.jpg", h.copy("tablet", "stern.jpg").Remote, "of the same size, and not the same")
	assert.NoFileExists(t, root+"/2026/05/keel.jpg")
	a, err = h.devices["phone"].Orders.Adopt(t.Context(), "locker", func(wire.Adopted) {})
	require.NoError(t, err)
	assert.EqualValues(t, 1, a.Files, "what devices put or found there is theirs now")

	// Over a network that costs, what must be compared waits.
	third := long(t, 70_000)
	require.NoError(t, os.WriteFile(root+"/old archive/mast.jpg", third, 0o644))
	_, err = h.devices["phone"].Orders.Adopt(t.Context(), "locker", func(wire.Adopted) {})
	require.NoError(t, err)
	metered := home
	metered.Metered = gate.Yes
	h.sensors["tablet"].Put(metered)
	h.file("tablet", "mast.jpg", third)
	h.until("tablet", "found", func(s wire.Device) bool { return s.States[queue.Waiting].N == 1 })
	key := h.devices["tablet"].Records.Catalogue.Key(h.copy("tablet", "mast.jpg").Item)
	_, err = h.devices["tablet"].Orders.SendNow(t.Context(), []string{key}, true)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return strings.Contains(h.copy("tablet", "mast.jpg").Says, "are compared when a network is there")
	}, time.Minute, 10*time.Millisecond)
	assert.NoFileExists(t, root+"/2026/05/mast.jpg")
	h.sensors["tablet"].Put(home)
	h.until("tablet", "compared", counts(queue.Safe, 3))
	assert.Equal(t, "old archive/mast.jpg", h.copy("tablet", "mast.jpg").Remote)
}

func TestADiskThatIsNotMountedIsNotFilled(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	open := func() destination.Driver { return folder.New(root) }
	h := newHouse(t, "folder", "", "", open, "phone")
	h.file("phone", "1.jpg", long(t, 1000))
	h.until("phone", "safe", counts(queue.Safe, 1))
	require.NoError(t, os.Rename(root, root+".away"))
	require.NoError(t, os.Mkdir(root, 0o755)) // what is under a disk that is not mounted
	h.file("phone", "2.jpg", long(t, 2000))
	s := h.until("phone", "held", func(s wire.Device) bool {
		return heldBy(gate.Trouble, 1)(s) && heldBy(gate.Place, 1)(s)
	})
	assert.Zero(t, s.States[queue.Safe].N, "what is not there is not called safe")
	assert.Contains(t, s.Holds[0].Says, "nothing tells which place it is")
	entries, err := os.ReadDir(root)
	require.NoError(t, err)
	assert.Empty(t, entries, "nothing is put there")
	require.NoError(t, os.Remove(root))
	require.NoError(t, os.Rename(root+".away", root))
	h.until("phone", "safe", counts(queue.Safe, 2))
	assert.NotContains(t, h.story("phone", "1.jpg"), "taken again", "the disk that came back owes nothing")
}

func TestPhotosAreNotStarvedByVideos(t *testing.T) {
	t.Parallel()
	open, _ := real["folder"](t)
	h := newHouse(t, "folder", "", "", open, "phone")
	h.stop()
	h.plan = strings.Replace(h.plan, "  phone:\n", "  phone:\n    limit: 4 MB/s\n", 1)
	clip, err := os.ReadFile(clipFile(t))
	require.NoError(t, err)
	for i := range 6 { // they are newer than the photo, and each takes long
		h.file("phone", fmt.Sprintf("v%d.mp4", i), append(clip, make([]byte, 20<<20+i)...))
	}
	h.file("phone", "a.jpg", long(t, 1000))
	old := time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(h.dir, "phone/DCIM/a.jpg"), old, old))
	h.start()
	s := h.until("phone", "the photo is safe", func(s wire.Device) bool { return s.States[queue.Safe].N >= 1 })
	assert.LessOrEqual(t, s.States[queue.Safe].N, int64(1))
	assert.Equal(t, queue.Safe, h.copy("phone", "a.jpg").State, "beside videos that are newer and under way")
}

func clipFile(t *testing.T) string {
	t.Helper()
	file := t.TempDir() + "/clip.mp4"
	require.NoError(t, standin.Clip(file, 1, 160, 6, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)))
	return file
}
