// Package apache starts a real Apache with mod_dav on loopback over a folder,
// for tests and benchmarks. It needs Debian's package apache2.
package apache

import (
	"bytes"
	"context"
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// Server is a running Apache.
type Server struct {
	Root string // the folder that it serves as /dav/
	url  string
	cmd  *exec.Cmd
	out  *bytes.Buffer
}

const conf = `ServerRoot %[1]q
ServerName 127.0.0.1
Listen %[2]s
PidFile %[1]s/httpd.pid
ErrorLog %[1]s/error.log
Mutex file:%[1]s
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule authn_core_module /usr/lib/apache2/modules/mod_authn_core.so
LoadModule authn_file_module /usr/lib/apache2/modules/mod_authn_file.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule authz_user_module /usr/lib/apache2/modules/mod_authz_user.so
LoadModule auth_basic_module /usr/lib/apache2/modules/mod_auth_basic.so
LoadModule dav_module /usr/lib/apache2/modules/mod_dav.so
LoadModule dav_fs_module /usr/lib/apache2/modules/mod_dav_fs.so
User %[3]s
Group %[4]s
KeepAlive On
MaxKeepAliveRequests 0
DavLockDB %[1]s/lock
DocumentRoot %[1]s/www
<Location /dav/>
  Dav On
  LimitRequestBody 0
  %[5]s
</Location>
`

// Start serves the folder dir/www/dav until Close. With a user it asks for the
// password.
func Start(ctx context.Context, dir, user, password string) (*Server, error) {
	s := &Server{Root: filepath.Join(dir, "www", "dav"), out: &bytes.Buffer{}}
	if err := os.MkdirAll(s.Root, 0o777); err != nil {
		return nil, fmt.Errorf("making Apache's folder: %w", err)
	}
	asUser, asGroup := "www-data", "www-data"
	if err := open(dir, s.Root); err != nil {
		return nil, err
	}
	signIn := "Require all granted"
	if user != "" {
		sum := sha1.Sum([]byte(password)) // the form that Apache's password file has: RFC 2307 {SHA}
		line := user + ":{SHA}" + base64.StdEncoding.EncodeToString(sum[:]) + "\n"
		if err := os.WriteFile(filepath.Join(dir, "users"), []byte(line), 0o644); err != nil {
			return nil, fmt.Errorf("writing Apache's users: %w", err)
		}
		signIn = fmt.Sprintf("AuthType Basic\n  AuthName yard\n  AuthUserFile %s/users\n  Require valid-user", dir)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("finding a port for Apache: %w", err)
	}
	addr := l.Addr().String()
	if err := l.Close(); err != nil {
		return nil, fmt.Errorf("finding a port for Apache: %w", err)
	}
	file := filepath.Join(dir, "httpd.conf")
	if err := os.WriteFile(file, fmt.Appendf(nil, conf, dir, addr, asUser, asGroup, signIn), 0o644); err != nil {
		return nil, fmt.Errorf("writing Apache's configuration: %w", err)
	}
	s.url = "http://" + addr + "/dav/"
	s.cmd = exec.Command("/usr/sbin/apache2", "-f", file, "-DFOREGROUND")
	s.cmd.Stdout, s.cmd.Stderr = s.out, s.out
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting Apache (Debian: apt-get install apache2): %w", err)
	}
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline) && ctx.Err() == nil; time.Sleep(20 * time.Millisecond) {
		if res, err := http.Get(s.url); err == nil {
			return s, res.Body.Close()
		}
	}
	return nil, fmt.Errorf("starting Apache: %w\n%s", s.Close(), s.out)
}

// open lets Apache's own user through to its folders: temporary folders of
// tests are closed to others.
func open(dir, root string) error {
	for p := dir; len(p) > len(os.TempDir()); p = filepath.Dir(p) {
		if err := os.Chmod(p, 0o755); err != nil {
			return fmt.Errorf("opening Apache's folder: %w", err)
		}
	}
	for _, p := range []string{dir, root} {
		if err := os.Chmod(p, 0o777); err != nil {
			return fmt.Errorf("opening Apache's folder: %w", err)
		}
	}
	return nil
}

// URL is the address of the collection.
func (s *Server) URL() string { return s.url }

// Close stops the server at once.
func (s *Server) Close() error {
	if err := s.cmd.Process.Signal(os.Interrupt); err != nil {
		return fmt.Errorf("stopping Apache: %w", err)
	}
	_ = s.cmd.Wait() // it ends by the signal
	return nil
}
