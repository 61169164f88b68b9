package destinationtest_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/destination/folder"
	"yardtide/engine/destination/s3"
	"yardtide/engine/destination/sftp"
	"yardtide/engine/destination/web"
	"yardtide/engine/destination/webdav"
	"yardtide/standin"
	"yardtide/standin/apache"
	"yardtide/standin/gateway"
	"yardtide/standin/lighttpd"
	"yardtide/standin/nginx"
	"yardtide/standin/server"
	"yardtide/standin/sshd"
)

const user, password = "slip", "tide & mud"

// maker makes an empty storage; what it returns makes drivers for it.
type maker func(t *testing.T) func() destination.Driver

// storages are all drivers against all servers. Each function starts a server;
// what it returns makes empty storages there.
var storages = []struct {
	driver, server string
	start          func(t *testing.T) maker
}{
	{"folder", "a disk (the one of temporary files)", func(*testing.T) maker {
		return func(t *testing.T) func() destination.Driver { return inFolder(t.TempDir()) }
	}},
	{"folder", "memory (tmpfs)", onTmpfs},
	{"webdav", "the simulated storage", func(t *testing.T) maker {
		s := &standin.Storage{Limit: 1 << 30, Dir: t.TempDir(), User: user, Password: password}
		require.NoError(t, s.Start("127.0.0.1:0"))
		closing(t, s.Close)
		return dav(s.Dir, webdav.Options{URL: s.URL(), User: user})
	}},
	{"webdav", "Apache, http, basic sign-in", func(t *testing.T) maker {
		return onApache(t, apache.Options{User: user, Password: password}, web.Options{})
	}},
	{"webdav", "Apache, http, digest sign-in", func(t *testing.T) maker {
		return onApache(t, apache.Options{User: user, Password: password, Digest: true}, web.Options{})
	}},
	{"webdav", "Apache, https, own authority", func(t *testing.T) maker {
		a, c := certificate(t)
		return onApache(t, apache.Options{User: user, Password: password, Certificate: c}, web.Options{Authority: a.File})
	}},
	{"webdav", "nginx, http", func(t *testing.T) maker { return onNginx(t, server.Certificate{}, web.Options{}) }},
	{"webdav", "nginx, https, own authority", func(t *testing.T) maker {
		a, c := certificate(t)
		return onNginx(t, c, web.Options{Authority: a.File})
	}},
	{"webdav", "nginx, https, pinned certificate", func(t *testing.T) maker {
		_, c := certificate(t)
		return onNginx(t, c, web.Options{Certificate: fmt.Sprintf("SHA256:%x", c.Fingerprint)})
	}},
	{"webdav", "lighttpd, http", func(t *testing.T) maker {
		s, err := lighttpd.Start(t.Context(), t.TempDir())
		require.NoError(t, err)
		closing(t, s.Close)
		return dav(s.Root, webdav.Options{URL: s.URL})
	}},
	{"s3", "versitygw, http", func(t *testing.T) maker {
		g := &gateway.Server{Root: t.TempDir()}
		return onGateway(t, g, web.Options{})
	}},
	{"s3", "versitygw, https, own authority", func(t *testing.T) maker {
		a, c := certificate(t)
		return onGateway(t, &gateway.Server{Root: t.TempDir(), Certificate: c}, web.Options{Authority: a.File})
	}},
	{"sftp", "OpenSSH, programs allowed", func(t *testing.T) maker { return onSSH(t, sshd.Options{}) }},
	{"sftp", "OpenSSH, internal-sftp only", func(t *testing.T) maker {
		return onSSH(t, sshd.Options{TransferOnly: true})
	}},
}

func inFolder(dir string) func() destination.Driver {
	return func() destination.Driver { return folder.New(dir) }
}

func closing(t *testing.T, end func() error) {
	t.Cleanup(func() { assert.NoError(t, end()) })
}

func onTmpfs(t *testing.T) maker {
	if _, err := os.Stat("/dev/shm"); err != nil {
		t.Skip("this system has no tmpfs at /dev/shm")
	}
	return func(t *testing.T) func() destination.Driver {
		dir, err := os.MkdirTemp("/dev/shm", "yardtide")
		require.NoError(t, err)
		closing(t, func() error { return os.RemoveAll(dir) })
		return inFolder(dir)
	}
}

// dav makes drivers for folders of their own below root, which a server has at
// o.URL.
func dav(root string, o webdav.Options) maker {
	o.Password = func() (string, error) { return password, nil }
	n := 0
	return func(t *testing.T) func() destination.Driver {
		n++
		name, o := fmt.Sprintf("yard %d/", n), o
		dir := filepath.Join(root, name)
		require.NoError(t, os.Mkdir(dir, 0o777))
		require.NoError(t, os.Chmod(dir, 0o777))
		o.URL += strings.ReplaceAll(name, " ", "%20")
		return func() destination.Driver {
			d, err := webdav.New(o)
			require.NoError(t, err)
			return d
		}
	}
}

func onApache(t *testing.T, o apache.Options, w web.Options) maker {
	a, err := apache.Start(t.Context(), t.TempDir(), o)
	require.NoError(t, err)
	closing(t, a.Close)
	return dav(a.Root, webdav.Options{URL: a.URL, User: user, Web: w})
}

func onNginx(t *testing.T, c server.Certificate, w web.Options) maker {
	n, err := nginx.Start(t.Context(), t.TempDir(), c)
	require.NoError(t, err)
	closing(t, n.Close)
	return dav(n.Root, webdav.Options{URL: n.URL, Web: w})
}

func onGateway(t *testing.T, g *gateway.Server, w web.Options) maker {
	require.NoError(t, g.Start(t.Context(), "locker"))
	closing(t, g.Close)
	n := 0
	return func(t *testing.T) func() destination.Driver {
		n++
		o := s3.Options{URL: g.Endpoint, Bucket: "locker", Path: fmt.Sprintf("yard %d", n), User: g.User,
			Password: func() (string, error) { return g.Password, nil }, Web: w}
		return func() destination.Driver {
			d, err := s3.New(o)
			require.NoError(t, err)
			return d
		}
	}
}

func onSSH(t *testing.T, o sshd.Options) maker {
	s, err := sshd.Start(t.Context(), t.TempDir(), o)
	require.NoError(t, err)
	closing(t, s.Close)
	return func(t *testing.T) func() destination.Driver {
		dir := t.TempDir()
		return func() destination.Driver {
			return sftp.New(sftp.Options{Address: s.Address, Path: dir, User: s.User, HostKey: s.HostKey,
				Key: func() ([]byte, error) { return s.Key, nil }})
		}
	}
}

func certificate(t *testing.T) (*server.Authority, server.Certificate) {
	dir := t.TempDir()
	a, err := server.NewAuthority(dir)
	require.NoError(t, err)
	c, err := a.Certify(dir, time.Now().Add(time.Hour))
	require.NoError(t, err)
	return a, c
}

// table is the document that the test keeps up to date.
const table = "../../../docs/conformance.md"

func TestConformance(t *testing.T) {
	abilities := []string{"goes on after a cut", "proof", "tells its space", "folders"}
	var b strings.Builder
	b.WriteString("# What each storage was seen to do\n\nWritten by `go test ./engine/destination/destinationtest`, " +
		"which holds every driver against every server below: what goes up comes back whole, nothing is ever " +
		"overwritten, a cut or short send never counts, and so on. All of them keep all of that. They differ in this:\n\n")
	fmt.Fprintf(&b, "| driver | server | %s |\n|%s\n", strings.Join(abilities, " | "),
		strings.Repeat(" --- |", len(abilities)+2))
	for _, s := range storages {
		t.Run(s.driver+", "+s.server, func(t *testing.T) {
			found := destinationtest.Run(t, s.start(t))
			fmt.Fprintf(&b, "| %s | %s |", s.driver, s.server)
			for _, a := range abilities {
				fmt.Fprintf(&b, " %s |", found[a])
			}
			b.WriteString("\n")
		})
	}
	if t.Failed() || strings.Contains(b.String(), "|  |") { // or not all of it was run
		return
	}
	before, err := os.ReadFile(filepath.FromSlash(table))
	mine, rest, _ := strings.Cut(string(before), "\n## ") // what follows is told by others
	if err != nil || os.Getenv("UPDATE") != "" {
		if rest != "" {
			rest = "\n## " + rest
		}
		require.NoError(t, os.WriteFile(filepath.FromSlash(table), []byte(b.String()+rest), 0o644))
		return
	}
	assert.Equal(t, mine, b.String(),
		"docs/conformance.md is out of date; write it anew with UPDATE=1 go test ./engine/destination/destinationtest")
}
