// Package lighttpd starts a real lighttpd with mod_webdav on loopback over a
// folder, for tests. It needs Debian's packages lighttpd and
// lighttpd-mod-webdav.
package lighttpd

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"yardtide/standin/server"
)

const conf = `server.modules = ("mod_webdav")
server.document-root = %[1]q
server.bind = "127.0.0.1"
server.port = %[2]s
server.errorlog = %[3]q
server.upload-dirs = (%[4]q)
server.max-request-size = 0
webdav.activate = "enable"
webdav.sqlite-db-name = %[5]q
`

// Server is a lighttpd over the folder Root.
type Server struct {
	Root    string // served as /dav/
	URL     string
	process *server.Process
}

// Start serves the folder dir/www/dav until Close.
func Start(ctx context.Context, dir string) (*Server, error) {
	s := &Server{Root: filepath.Join(dir, "www", "dav")}
	spool := filepath.Join(dir, "spool")
	for _, p := range []string{s.Root, spool} {
		if err := os.MkdirAll(p, 0o777); err != nil {
			return nil, fmt.Errorf("making lighttpd's folder: %w", err)
		}
	}
	address, err := server.Port()
	if err != nil {
		return nil, err
	}
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("finding lighttpd's port: %w", err)
	}
	file := filepath.Join(dir, "lighttpd.conf")
	text := fmt.Appendf(nil, conf, filepath.Join(dir, "www"), port, filepath.Join(dir, "error.log"), spool,
		filepath.Join(dir, "locks.db"))
	if err := os.WriteFile(file, text, 0o644); err != nil {
		return nil, fmt.Errorf("writing lighttpd's configuration: %w", err)
	}
	s.URL = "http://" + address + "/dav/"
	s.process, err = server.Start(ctx, address, "Debian: apt-get install lighttpd lighttpd-mod-webdav",
		"/usr/sbin/lighttpd", "-D", "-f", file)
	return s, err
}

// Close stops the server at once.
func (s *Server) Close() error { return s.process.Stop() }
