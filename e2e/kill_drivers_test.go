package e2e

import (
	crand "crypto/rand"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/s3"
	"yardtide/standin"
	"yardtide/standin/apache"
	"yardtide/standin/gateway"
	"yardtide/standin/sshd"
	"yardtide/wire"
)

// storages are four places, each of its own kind and at a real server.
type storages struct {
	plan    string            // their lines in a plan
	roots   map[string]string // where the files of each lie
	gateway *gateway.Server
}

func fourStorages(t *testing.T, dir string) storages {
	t.Helper()
	for _, d := range []string{dir + "/disk", dir + "/shed"} {
		require.NoError(t, os.MkdirAll(d, 0o755))
	}
	dav, err := apache.Start(t.Context(), t.TempDir(), apache.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, dav.Close()) })
	shed, err := sshd.Start(t.Context(), t.TempDir(), sshd.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, shed.Close()) })
	g := &gateway.Server{Root: t.TempDir()}
	require.NoError(t, g.Start(t.Context(), "loft"))
	t.Cleanup(func() { assert.NoError(t, g.Close()) })
	secret := dir + "/secret"
	require.NoError(t, os.WriteFile(secret, []byte(g.Password), 0o600))
	return storages{
		plan: fmt.Sprintf(`  disk: {kind: folder, path: %[1]s/disk}
  dav: {kind: webdav, url: %[2]q}
  shed: {kind: sftp, address: %[3]q, user: %[4]s, host-key: %[5]q, key-from: "file:%[6]s", path: %[1]s/shed}
  loft: {kind: s3, url: %[7]q, bucket: loft, user: %[8]s, password-from: "file:%[9]s"}
`, dir, dav.URL, shed.Address, shed.User, shed.HostKey, shed.KeyFile, g.Endpoint, g.User, secret),
		roots:   map[string]string{"disk": dir + "/disk", "dav": dav.Root, "shed": dir + "/shed", "loft": g.Files("loft")},
		gateway: g,
	}
}

// clean sees that no temporary file is left at any of the four.
func (f storages) clean(t *testing.T) {
	t.Helper()
	for name, root := range f.roots {
		require.Eventually(t, func() bool {
			left, err := filepath.Glob(root + "/.yardtide/*.part")
			return assert.NoError(t, err) && len(left) == 0
		}, time.Minute, 100*time.Millisecond, "temporary files are left at %s", name)
	}
}

// SIGKILLs at random moments while small copies go over cellular, the whole ones over Wi-Fi, and
// small ones are removed again, at four storages: at the end every whole one is there, and no small
// one, and what somebody else wrote into the folder of small copies lies there as it was.
func TestKilledAgainAndAgainWithSmallCopies(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	four := fourStorages(t, dir)
	require.NoError(t, os.WriteFile(dir+"/plan.yaml", []byte(`yard: Desk
timezone: UTC
destinations:
`+four.plan+`devices:
  galley-phone:
    sources: [{folder: in, rule: all}]
renditions:
  tiny: {long-edge: 120}
rules:
  all:
    take: [photo]
    to: [disk, dav, shed, loft]
    lanes: [{over: wifi}, {over: cellular, send: tiny}]
`), 0o644))
	in := dir + "/yard/galley-phone/in"
	require.NoError(t, os.MkdirAll(in, 0o755))
	s := demo(t, dir+"/yard", "-items", "1", "-clips=false")
	s.phone(onCellular)
	s.ok("plan", "apply", dir+"/plan.yaml")
	foreign := map[string]string{}
	for name, root := range four.roots {
		file := root + "/small/somebody's.jpg"
		foreign[file] = "written at " + name
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.Chmod(filepath.Dir(file), 0o777)) // for a server of another user
		require.NoError(t, os.WriteFile(file, []byte(foreign[file]), 0o644))
	}
	rounds, small := max(12, kills()/4), map[string]int{}
	for n := range rounds {
		content, err := standin.JPEG(n, 400, time.Date(2026, 2, 3, 4, n/60, n%60, 0, time.UTC))
		require.NoError(t, err)
		file := fmt.Sprintf("%s/%d.jpg", in, n)
		require.NoError(t, os.WriteFile(file+".new", content, 0o644))
		past := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(file+".new", past, past))
		require.NoError(t, os.Rename(file+".new", file))
		s.phone([]gate.Conditions{onCellular, onWiFi}[n%2])
		if n == 0 {
			s.until("small copies are at all that are reached over a network", besides("galley-phone", plan.Small, 3))
		}
		time.Sleep(time.Duration(rand.IntN(900)) * time.Millisecond)
		s.kill()
		for name, root := range four.roots {
			if len(stored(t, root+"/small")) > 1 {
				small[name]++
			}
		}
		s.start()
	}
	t.Logf("kills while small copies lay there: %v", small)
	for _, name := range []string{"loft", "shed"} { // dav's right to put in place outlives a kill by a while
		assert.Positive(t, small[name], "no small copy was ever at %s", name)
	}
	s.phone(onWiFi)
	s.until("all safe, and no small copy is there any more", func(y wire.Yard) bool {
		return total(y, queue.Safe) >= int64(rounds) && total(y, queue.Waiting, queue.Preparing, queue.Sending,
			queue.Proving, queue.Stuck) == 0 && besides("galley-phone", plan.Small, 0)(y)
	})
	want := stored(t, in)
	for name, root := range four.roots {
		there := stored(t, root)
		for sum, file := range want {
			assert.Contains(t, there, sum, "lost at %s: %s", name, file)
		}
		left := 0
		for sum, file := range there {
			if want[sum] == "" && foreign[file] == "" { // a kill between what was done there and its record
				left++
				assert.Regexp(t, `(what lies at small/\S+ (now )?stays|the small one may be somebody else's, and stays)`,
					strings.ToLower(s.ok("why", filepath.Base(file))), "%s lies there, and nobody says so", file)
			}
		}
		assert.Len(t, there, rounds+1+left, "what lay at %s is gone", name)
	}
	for file, content := range foreign {
		is, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, content, string(is))
	}
	four.clean(t)
}

// SIGKILLs at random moments while everything goes to four storages at
// once, each by its own driver and to a real server: small files, and some
// that go in parts.
func TestKilledAgainAndAgainWithEveryDriver(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	in := dir + "/yard/chart-table/in" // the demo's computer is on a network, whatever this machine is on
	require.NoError(t, os.MkdirAll(in, 0o755))
	four := fourStorages(t, dir)
	roots, g := four.roots, four.gateway
	require.NoError(t, os.WriteFile(dir+"/plan.yaml", []byte(`yard: Desk
timezone: UTC
destinations:
`+four.plan+`devices:
  chart-table:
    sources: [{folder: in, rule: all}]
rules:
  all:
    take: [photo]
    to: [disk, dav, shed, loft]
    lanes: [{over: wifi}]
`), 0o644))
	s := demo(t, dir+"/yard", "-items", "1", "-clips=false")
	s.ok("plan", "apply", dir+"/plan.yaml")

	base, err := standin.JPEG(1, 200, time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC))
	require.NoError(t, err)
	underWay := map[string]int{}
	for n := range kills() {
		size := 20_000 + rand.IntN(150_000)
		if n%25 == 10 {
			size = 18 << 20
		}
		tail := make([]byte, size)
		_, _ = crand.Read(tail) // it never fails
		file := fmt.Sprintf("%s/%d.jpg", in, n)
		require.NoError(t, os.WriteFile(file+".new", append(base[:len(base):len(base)], tail...), 0o644))
		past := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(file+".new", past, past))
		require.NoError(t, os.Rename(file+".new", file))
		time.Sleep(time.Duration(rand.IntN(450)) * time.Millisecond)
		s.kill()
		for name, root := range roots {
			if left, err := filepath.Glob(root + "/.yardtide/*.part"); assert.NoError(t, err) && len(left) > 0 {
				underWay[name]++
			}
		}
		s.start()
	}
	t.Logf("kills while a part lay there: %v", underWay)
	s.until("all safe", func(y wire.Yard) bool {
		return total(y, queue.Safe) >= int64(kills()) && total(y, queue.Waiting, queue.Preparing, queue.Sending,
			queue.Proving, queue.Stuck) == 0
	})
	want := stored(t, in)
	require.Len(t, want, kills())
	for name, root := range roots {
		there := stored(t, root)
		for sum, file := range want {
			assert.Contains(t, there, sum, "lost at %s: %s", name, file)
		}
		assert.Len(t, there, kills(), "something lies at %s that nobody sent", name)
	}
	four.clean(t)
	core, err := minio.NewCore(g.Address, &minio.Options{Creds: credentials.NewStaticV4(g.User, g.Password, ""),
		Region: "us-east-1"})
	require.NoError(t, err)
	begun := func() (n int) {
		list, err := core.ListMultipartUploads(t.Context(), "loft", "", "", "", "", 1000)
		require.NoError(t, err)
		return len(list.Uploads)
	}
	// What a kill left under a final name may be what another service does this
	// moment: it is ended once it is too old for that.
	d, err := s3.New(s3.Options{URL: "http://" + g.Address, Bucket: "loft", User: g.User,
		Password: func() (string, error) { return g.Password, nil }, Stale: time.Nanosecond})
	require.NoError(t, err)
	t.Logf("uploads that kills left: %d", begun())
	temp := destination.NewTemp("test")
	require.NoError(t, d.Put(t.Context(), temp, strings.NewReader("tide"), 0, 4))
	require.NoError(t, d.Publish(t.Context(), temp, "the last.jpg"))
	assert.Zero(t, begun(), "uploads in parts are left")
	require.NoError(t, d.Close())
}
