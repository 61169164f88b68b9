// Package nginx starts a real nginx with its WebDAV module and that for
// PROPFIND and LOCK on loopback over a folder, for tests. It needs Debian's
// packages nginx-light and libnginx-mod-http-dav-ext.
package nginx

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"yardtide/standin/server"
)

const conf = `load_module /usr/lib/nginx/modules/ngx_http_dav_ext_module.so;
daemon off;
worker_processes 2;
pid %[1]s/nginx.pid;
error_log %[1]s/error.log;
events { worker_connections 256; }
http {
  access_log off;
  client_body_temp_path %[1]s/body;
  proxy_temp_path %[1]s/proxy;
  fastcgi_temp_path %[1]s/fastcgi;
  uwsgi_temp_path %[1]s/uwsgi;
  scgi_temp_path %[1]s/scgi;
  client_max_body_size 0;
  dav_ext_lock_zone zone=locks:1m;
  server {
    listen %[2]s %[3]s;
    %[4]s
    location /dav/ {
      root %[1]s/www;
      dav_methods PUT DELETE MKCOL COPY MOVE;
      dav_ext_methods PROPFIND OPTIONS LOCK UNLOCK;
      dav_ext_lock zone=locks;
      create_full_put_path off;
      min_delete_depth 0;
    }
  }
}
`

// Server is an nginx over the folder Root.
type Server struct {
	Root    string // served as /dav/
	URL     string
	process *server.Process
}

// Start serves the folder dir/www/dav until Close; over https with a
// certificate.
func Start(ctx context.Context, dir string, c server.Certificate) (*Server, error) {
	s := &Server{Root: filepath.Join(dir, "www", "dav")}
	if err := os.MkdirAll(s.Root, 0o777); err != nil {
		return nil, fmt.Errorf("making nginx's folder: %w", err)
	}
	if err := server.Open(dir, s.Root); err != nil {
		return nil, err
	}
	address, err := server.Port()
	if err != nil {
		return nil, err
	}
	scheme, ssl, tls := "http", "", ""
	if c.File != "" {
		scheme, ssl, tls = "https", "ssl", fmt.Sprintf("ssl_certificate %s; ssl_certificate_key %s;", c.File, c.Key)
	}
	file := filepath.Join(dir, "nginx.conf")
	if err := os.WriteFile(file, fmt.Appendf(nil, conf, dir, address, ssl, tls), 0o644); err != nil {
		return nil, fmt.Errorf("writing nginx's configuration: %w", err)
	}
	s.URL = scheme + "://" + address + "/dav/"
	s.process, err = server.Start(ctx, address, "Debian: apt-get install nginx-light libnginx-mod-http-dav-ext",
		"/usr/sbin/nginx", "-e", filepath.Join(dir, "error.log"), "-c", file)
	return s, err
}

// Close stops the server at once.
func (s *Server) Close() error { return s.process.Stop() }
