package device_test

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/Shopify/toxiproxy/v2"
	"github.com/rs/zerolog"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/s3"
	"yardtide/engine/destination/sftp"
	"yardtide/engine/destination/web"
	"yardtide/engine/destination/webdav"
	"yardtide/standin/apache"
	"yardtide/standin/gateway"
	"yardtide/standin/server"
	"yardtide/standin/sshd"
	"yardtide/wire"
)

// remote is a real server that a fault can stand in front of.
type remote struct {
	address string // of the server itself
	root    string // where its files lie
	// open makes a driver that reaches it at an address.
	open func(address string) destination.Driver
	// restart ends the server and starts it again.
	restart func(t *testing.T)
}

const stall = time.Second

// remotes start the real servers, each by its driver's name.
var remotes = map[string]func(t *testing.T) remote{
	"webdav": func(t *testing.T) remote {
		a, err := apache.Start(t.Context(), t.TempDir(), apache.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, a.Close()) })
		u, err := url.Parse(a.URL)
		require.NoError(t, err)
		return remote{u.Host, a.Root, func(address string) destination.Driver {
			d, err := webdav.New(webdav.Options{URL: "http://" + address + "/dav/", Web: web.Options{Stall: stall}})
			require.NoError(t, err)
			return d
		}, func(t *testing.T) { require.NoError(t, a.Close()); require.NoError(t, a.Begin(t.Context())) }}
	},
	"sftp": func(t *testing.T) remote {
		s, err := sshd.Start(t.Context(), t.TempDir(), sshd.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, s.Close()) })
		root := t.TempDir()
		return remote{s.Address, root, func(address string) destination.Driver {
			return sftp.New(sftp.Options{Address: address, Path: root, User: s.User, HostKey: s.HostKey, Stall: stall,
				Key: func() ([]byte, error) { return s.Key, nil }})
		}, func(t *testing.T) { require.NoError(t, s.Close()); require.NoError(t, s.Begin(t.Context())) }}
	},
	"s3": func(t *testing.T) remote {
		g := &gateway.Server{Root: t.TempDir()}
		require.NoError(t, g.Start(t.Context(), "locker"))
		t.Cleanup(func() { assert.NoError(t, g.Close()) })
		return remote{g.Address, g.Files("locker"), func(address string) destination.Driver {
			d, err := s3.New(s3.Options{URL: "http://" + address, Bucket: "locker", User: g.User,
				Password: func() (string, error) { return g.Password, nil }, Web: web.Options{Stall: stall}})
			require.NoError(t, err)
			return d
		}, func(t *testing.T) { require.NoError(t, g.Kill()); require.NoError(t, g.Begin(t.Context())) }}
	},
}

// whole sees that every file of the device lies at the storage once, whole, and
// nothing else does.
func (h *house) whole(root string) {
	h.t.Helper()
	sums := func(root string) map[string]string {
		byHash := map[string]string{}
		require.NoError(h.t, filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) && strings.Contains(p, destination.TempDir) {
				return nil // a storage removes the folder of temporary names when it is empty
			}
			if err != nil || e.IsDir() || strings.Contains(p, destination.TempDir) ||
				strings.Contains(p, "/"+destination.RecordDir+"/") || strings.Contains(p, "/.sgwtmp/") {
				return err
			}
			content, err := os.ReadFile(p)
			sum := hash(content)
			assert.Empty(h.t, byHash[sum], "the same content lies there twice: %s", p)
			byHash[sum] = p
			return err
		}))
		return byHash
	}
	want, there := sums(h.dir+"/phone/DCIM"), sums(root)
	for sum, p := range want {
		assert.Contains(h.t, there, sum, "lost: %s", p)
	}
	for sum, p := range there {
		assert.Contains(h.t, want, sum, "nobody sent %s", p)
	}
	require.Eventually(h.t, func() bool {
		parts, err := filepath.Glob(root + "/" + destination.TempDir + "/*.part")
		return assert.NoError(h.t, err) && len(parts) == 0
	}, 90*time.Second, 50*time.Millisecond, "temporary files are left") // looked for ever later: 2 h at this pace
}

func TestConnectionsThatBreakAgainAndAgain(t *testing.T) {
	t.Parallel()
	for kind, start := range remotes {
		t.Run(kind, func(t *testing.T) {
			r := start(t)
			faults := toxiproxy.NewServer(toxiproxy.NewMetricsContainer(nil), zerolog.Nop())
			proxy := toxiproxy.NewProxy(faults, kind, "127.0.0.1:0", r.address)
			require.NoError(t, proxy.Start())
			t.Cleanup(proxy.Stop)
			// Every connection breaks after so many bytes.
			_, err := proxy.Toxics.AddToxicJson(strings.NewReader(`{"type": "limit_data", "stream": "upstream", "attributes": {"bytes": 22000000}}`))
			require.NoError(t, err)
			h := newHouse(t, kind, "", "", func() destination.Driver { return r.open(proxy.Listen) }, "phone")
			h.file("phone", "long.jpg", long(t, 60<<20))
			for i := range 12 {
				h.file("phone", fmt.Sprintf("%d.jpg", i), long(t, 1_500_000+i))
			}
			h.until("phone", "all safe", counts(queue.Safe, 13))
			c := h.copy("phone", "long.jpg")
			assert.Positive(t, c.Sent, "counted")
			assert.Contains(t, h.story("phone", "long.jpg"), "It goes on after")
			h.whole(r.root)
		})
	}
}

func TestAServerThatRestartsDuringAHundredSends(t *testing.T) {
	t.Parallel()
	for kind, start := range remotes {
		t.Run(kind, func(t *testing.T) {
			r := start(t)
			h := newHouse(t, kind, "", "", func() destination.Driver { return r.open(r.address) }, "phone")
			h.stop()
			h.plan = strings.Replace(h.plan, "  phone:\n", "  phone:\n    limit: 12 MB/s\n", 1)
			for i := range 100 {
				h.file("phone", fmt.Sprintf("%d.jpg", i), long(t, 200_000+i))
			}
			h.start()
			for n := range int64(4) {
				h.until("phone", "some are safe", func(s wire.Device) bool { return s.States[queue.Safe].N >= 15*(n+1) })
				r.restart(t)
			}
			h.until("phone", "all safe", counts(queue.Safe, 100))
			h.whole(r.root)
		})
	}
}

func TestALineThatGoesDeadAndComesBack(t *testing.T) {
	t.Parallel()
	for kind, start := range remotes {
		t.Run(kind, func(t *testing.T) {
			r := start(t)
			faults := toxiproxy.NewServer(toxiproxy.NewMetricsContainer(nil), zerolog.Nop())
			proxy := toxiproxy.NewProxy(faults, kind, "127.0.0.1:0", r.address)
			require.NoError(t, proxy.Start())
			t.Cleanup(proxy.Stop)
			h := newHouse(t, kind, "", "", func() destination.Driver { return r.open(proxy.Listen) }, "phone")
			for i := range 3 {
				h.file("phone", fmt.Sprintf("%d.jpg", i), long(t, 500_000+i))
			}
			h.until("phone", "safe", counts(queue.Safe, 3))
			_, err := proxy.Toxics.AddToxicJson(strings.NewReader(`{"name": "dead", "type": "timeout", "stream": "downstream", "attributes": {"timeout": 0}}`))
			require.NoError(t, err)
			for i := range 3 {
				h.file("phone", fmt.Sprintf("more %d.jpg", i), long(t, 600_000+i))
			}
			s := h.until("phone", "held", heldBy(gate.Trouble, 3))
			assert.Contains(t, s.Holds[0].Says, "locker: ")
			assert.False(t, s.Holds[0].You, "it mends itself")
			require.NoError(t, proxy.Toxics.RemoveToxic(t.Context(), "dead"))
			h.until("phone", "all safe", counts(queue.Safe, 6))
			h.whole(r.root)
		})
	}
}

func TestErrorsAndWaitsAtAFifthOfRequests(t *testing.T) {
	t.Parallel()
	const few = 8
	for _, kind := range []string{"webdav", "s3"} {
		t.Run(kind, func(t *testing.T) {
			r := remotes[kind](t)
			var refused atomic.Int64
			pass := &httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) {
				p.Out.URL.Scheme, p.Out.URL.Host = "http", r.address
				p.Out.Host = p.In.Host // signatures and MOVE rest on it
			}, ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) }}
			address, err := server.Port()
			require.NoError(t, err)
			front := &http.Server{Addr: address, Handler: http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
				if rand.IntN(5) > 0 {
					pass.ServeHTTP(w, q)
					return
				}
				if refused.Add(1)%2 == 0 {
					w.Header().Set("Retry-After", "1")
					w.WriteHeader(http.StatusTooManyRequests)
					return
				}
				w.WriteHeader(http.StatusServiceUnavailable)
			})}
			done := make(chan error, 1)
			go func() { done <- front.ListenAndServe() }()
			t.Cleanup(func() {
				assert.NoError(t, front.Close())
				assert.ErrorIs(t, <-done, http.ErrServerClosed)
			})
			h := newHouse(t, kind, "", "", func() destination.Driver { return r.open(address) }, "phone")
			for i := range few {
				h.file("phone", fmt.Sprintf("%d.jpg", i), long(t, 50_000+i))
			}
			deadline := time.Now().Add(5 * time.Minute)
			for s := h.until("phone", "found", func(wire.Device) bool { return true }); s.States[queue.Safe].N < few; time.Sleep(50 * time.Millisecond) {
				require.True(t, time.Now().Before(deadline), "never all safe: %+v", s.States)
				if s.States[queue.Stuck].N > 0 { // eight refusals in a row are the keeper's to look at
					_, err := h.devices["phone"].Orders.Retry(t.Context(), nil)
					require.NoError(t, err)
				}
				s, err = h.devices["phone"].Told.Status(t.Context())
				require.NoError(t, err)
			}
			assert.Positive(t, refused.Load())
			h.whole(r.root)
		})
	}
}

func TestACertificateThatExpiresAndIsRenewed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	authority, err := server.NewAuthority(dir)
	require.NoError(t, err)
	cert, err := authority.Certify(dir, time.Now().Add(time.Hour))
	require.NoError(t, err)
	a, err := apache.Start(t.Context(), t.TempDir(), apache.Options{Certificate: cert})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	h := newHouse(t, "webdav", "", "", func() destination.Driver {
		d, err := webdav.New(webdav.Options{URL: a.URL, Web: web.Options{Authority: authority.File, Stall: stall}})
		require.NoError(t, err)
		return d
	}, "phone")
	h.file("phone", "1.jpg", long(t, 1000))
	h.until("phone", "safe", counts(queue.Safe, 1))
	show := func(ends time.Time) {
		require.NoError(t, a.Close())
		_, err := authority.Certify(dir, ends) // in the same files
		require.NoError(t, err)
		require.NoError(t, a.Begin(t.Context()))
	}
	show(time.Now().Add(-time.Hour))
	h.file("phone", "2.jpg", long(t, 2000))
	s := h.until("phone", "held", heldBy(gate.Trouble, 1))
	assert.Regexp(t, `The certificate of 127\.0\.0\.1:\d+ expired on \d{4}-`, s.Holds[0].Says)
	assert.True(t, s.Holds[0].You)
	show(time.Now().Add(time.Hour))
	h.until("phone", "safe again", counts(queue.Safe, 2))
	h.whole(a.Root)
}

func TestAPasswordThatChanges(t *testing.T) {
	t.Parallel()
	o := apache.Options{User: "slip", Password: "first", Digest: true}
	a, err := apache.Start(t.Context(), t.TempDir(), o)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	var password atomic.Value
	password.Store("first")
	h := newHouse(t, "webdav", "", "", func() destination.Driver {
		d, err := webdav.New(webdav.Options{URL: a.URL, User: "slip",
			Password: func() (string, error) { return password.Load().(string), nil }})
		require.NoError(t, err)
		return d
	}, "phone")
	h.file("phone", "1.jpg", long(t, 1000))
	h.until("phone", "safe", counts(queue.Safe, 1))
	o.Password = "second"
	require.NoError(t, a.SetPassword(o))
	for i := range 8 {
		h.file("phone", fmt.Sprintf("more %d.jpg", i), long(t, 2000+i))
	}
	s := h.until("phone", "held", heldBy(gate.Trouble, 8))
	assert.Equal(t, "locker: The storage refuses the user or the password.", s.Holds[0].Says)
	assert.Zero(t, s.States[queue.Stuck].N)
	password.Store("second")
	h.until("phone", "it goes on by itself", counts(queue.Safe, 9))
	h.whole(a.Root)
}

func TestADiskThatIsFullInTheMiddleOfAFile(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("mounting a small disk needs root")
	}
	for _, kind := range []string{"sftp", "webdav"} {
		t.Run(kind, func(t *testing.T) {
			r := remotes[kind](t)
			require.NoError(t, syscall.Mount("tmpfs", r.root, "tmpfs", 0, "size=6m,mode=777"))
			t.Cleanup(func() { assert.NoError(t, syscall.Unmount(r.root, syscall.MNT_DETACH)) })
			h := newHouse(t, kind, "", "", func() destination.Driver { return r.open(r.address) }, "phone")
			for i := range 3 {
				h.file("phone", fmt.Sprintf("%d.jpg", i), long(t, 3_000_000+i))
			}
			s := h.until("phone", "held", func(s wire.Device) bool {
				return len(s.Holds) > 0 && s.Holds[0].Gate == gate.Trouble && s.Holds[0].You && len(s.Sends) == 0
			})
			assert.Equal(t, "locker: The storage is full.", s.Holds[0].Says)
			assert.Zero(t, s.States[queue.Stuck].N)
			require.NoError(t, syscall.Mount("", r.root, "", syscall.MS_REMOUNT, "size=40m,mode=777"))
			_, err := h.devices["phone"].Orders.Retry(t.Context(), nil)
			require.NoError(t, err)
			h.until("phone", "room was made", counts(queue.Safe, 3))
			h.whole(r.root)
		})
	}
}

// The link to the storage goes down and up while a large file and small ones
// are sent: a pair of virtual interfaces into a network namespace.
func TestALinkThatGoesDownAndUp(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("making a network namespace needs root")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("ip is not installed (Debian: apt-get install iproute2)")
	}
	space, here, there := fmt.Sprintf("tide%d", os.Getpid()), fmt.Sprintf("td%da", os.Getpid()%100000),
		fmt.Sprintf("td%db", os.Getpid()%100000)
	ip := func(args ...string) {
		t.Helper()
		out, err := exec.Command("ip", args...).CombinedOutput()
		require.NoError(t, err, "ip %v: %s", args, out)
	}
	if out, err := exec.Command("ip", "netns", "add", space).CombinedOutput(); err != nil {
		t.Skipf("this machine makes no network namespaces: %s", out)
	}
	t.Cleanup(func() { ip("netns", "del", space) })
	ip("link", "add", here, "type", "veth", "peer", "name", there)
	ip("link", "set", there, "netns", space)
	ip("addr", "add", "10.213.77.1/24", "dev", here)
	ip("link", "set", here, "up")
	ip("-n", space, "addr", "add", "10.213.77.2/24", "dev", there)
	ip("-n", space, "link", "set", there, "up")
	ip("-n", space, "link", "set", "lo", "up")
	a, err := apache.Start(t.Context(), t.TempDir(), apache.Options{Namespace: space, Address: "10.213.77.2:8080"})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	h := newHouse(t, "webdav", "", "", func() destination.Driver {
		d, err := webdav.New(webdav.Options{URL: a.URL, Web: web.Options{Stall: stall}})
		require.NoError(t, err)
		return d
	}, "phone")
	h.stop()
	h.plan = strings.Replace(h.plan, "  phone:\n", "  phone:\n    limit: 16 MB/s\n", 1)
	h.file("phone", "long.jpg", long(t, 60<<20))
	for i := range 10 {
		h.file("phone", fmt.Sprintf("%d.jpg", i), long(t, 400_000+i))
	}
	h.start()
	for n := range int64(3) {
		h.until("phone", "more of the large file is sent", func(s wire.Device) bool {
			for _, one := range s.Sends {
				if one.Name == "long.jpg" && one.Sent > (n+1)*17<<20 {
					return true
				}
			}
			return s.States[queue.Safe].N == 11
		})
		ip("link", "set", here, "down")
		time.Sleep(stall + 500*time.Millisecond)
		ip("link", "set", here, "up")
	}
	h.until("phone", "all safe", counts(queue.Safe, 11))
	assert.Contains(t, h.story("phone", "long.jpg"), "It goes on after")
	cuts := strings.Count(h.story("phone", "long.jpg"), "sending: ") - 1 // a busy machine may make more than three
	assert.LessOrEqual(t, h.copy("phone", "long.jpg").SentTwice(), int64(cuts)*(16<<20+destination.Doubt),
		"at most one part twice for each cut, and what is doubted of the one before")
	h.whole(a.Root)
}
