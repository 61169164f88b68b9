// Package apache starts a real Apache with mod_dav on loopback over a folder,
// for tests and benchmarks. It needs Debian's package apache2.
package apache

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"

	"yardtide/standin/server"
)

// Options are how it serves; the zero value lets everybody in over http.
type Options struct {
	User, Password string
	Digest         bool // sign-in by RFC 7616 (MD5, which is what Apache has) and not by RFC 7617
	Certificate    server.Certificate
	// Namespace is a network namespace to run in (ip-netns), with the address
	// to listen at there; "" is this one, on loopback.
	Namespace, Address string
}

// Server is an Apache over the folder Root.
type Server struct {
	Root    string // served as /dav/
	URL     string
	conf    string
	address string
	space   string
	process *server.Process
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
LoadModule auth_digest_module /usr/lib/apache2/modules/mod_auth_digest.so
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
LoadModule dav_module /usr/lib/apache2/modules/mod_dav.so
LoadModule dav_fs_module /usr/lib/apache2/modules/mod_dav_fs.so
LoadModule dav_lock_module /usr/lib/apache2/modules/mod_dav_lock.so
User www-data
Group www-data
KeepAlive On
MaxKeepAliveRequests 0
DavLockDB %[1]s/lock
DocumentRoot %[1]s/www
%[4]s
<Location /dav/>
  Dav On
  LimitRequestBody 0
  %[3]s
</Location>
`

// Start serves the folder dir/www/dav until Close.
func Start(ctx context.Context, dir string, o Options) (*Server, error) {
	s := &Server{Root: filepath.Join(dir, "www", "dav"), conf: filepath.Join(dir, "httpd.conf")}
	if err := os.MkdirAll(s.Root, 0o777); err != nil {
		return nil, fmt.Errorf("making Apache's folder: %w", err)
	}
	if err := server.Open(dir, s.Root); err != nil {
		return nil, err
	}
	s.address, s.space = o.Address, o.Namespace
	if s.address == "" {
		var err error
		if s.address, err = server.Port(); err != nil {
			return nil, err
		}
	}
	signIn, tls, scheme := "Require all granted", "", "http"
	if o.User != "" {
		if err := s.SetPassword(o); err != nil {
			return nil, err
		}
		kind := "Basic"
		if o.Digest {
			kind = "Digest\n  AuthDigestProvider file"
		}
		signIn = fmt.Sprintf("AuthType %s\n  AuthName yard\n  AuthUserFile %s/users\n  Require valid-user", kind, dir)
	}
	if o.Certificate.File != "" {
		scheme, tls = "https", fmt.Sprintf("SSLEngine on\nSSLCertificateFile %s\nSSLCertificateKeyFile %s",
			o.Certificate.File, o.Certificate.Key)
	}
	if err := os.WriteFile(s.conf, fmt.Appendf(nil, conf, dir, s.address, signIn, tls), 0o644); err != nil {
		return nil, fmt.Errorf("writing Apache's configuration: %w", err)
	}
	s.URL = scheme + "://" + s.address + "/dav/"
	return s, s.Begin(ctx)
}

// SetPassword lets a user in with another password from now on.
func (s *Server) SetPassword(o Options) error {
	sum := sha1.Sum([]byte(o.Password)) // the form that Apache's password file has: RFC 2307 {SHA}
	line := o.User + ":{SHA}" + base64.StdEncoding.EncodeToString(sum[:]) + "\n"
	if o.Digest { // and that of its digest file: RFC 7616, 3.4.2
		sum := md5.Sum([]byte(o.User + ":yard:" + o.Password))
		line = o.User + ":yard:" + hex.EncodeToString(sum[:]) + "\n"
	}
	if err := os.WriteFile(filepath.Join(filepath.Dir(s.conf), "users"), []byte(line), 0o644); err != nil {
		return fmt.Errorf("writing Apache's users: %w", err)
	}
	return nil
}

// Begin starts the server, again after a Close, under the same address.
func (s *Server) Begin(ctx context.Context) (err error) {
	const hint, program = "Debian: apt-get install apache2", "/usr/sbin/apache2"
	if s.space != "" {
		s.process, err = server.Start(ctx, s.address, hint, "ip", "netns", "exec", s.space, program, "-f", s.conf,
			"-DFOREGROUND")
		return err
	}
	s.process, err = server.Start(ctx, s.address, hint, program, "-f", s.conf, "-DFOREGROUND")
	return err
}

// Close stops the server at once.
func (s *Server) Close() error { return s.process.Stop() }
