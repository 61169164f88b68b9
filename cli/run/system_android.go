package run

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
	_ "time/tzdata" // Android has its zones in a form of its own
)

// prepareSystem sets what Android does not tell a program of its terminal: the time zone
// that it is in, and who looks up names.
func prepareSystem() {
	zone := os.Getenv("TZ")
	if zone == "" {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		out, _ := exec.CommandContext(ctx, "getprop", "persist.sys.timezone").Output() // without it, it is UTC
		zone = strings.TrimSpace(string(out))
	}
	if at, err := time.LoadLocation(zone); err == nil && zone != "" {
		time.Local = at
	}
	text, err := os.ReadFile(filepath.Join(os.Getenv("PREFIX"), "etc/resolv.conf"))
	if err != nil {
		return
	}
	for _, line := range strings.Split(string(text), "\n") {
		server, is := strings.CutPrefix(strings.TrimSpace(line), "nameserver ")
		if !is || net.ParseIP(strings.TrimSpace(server)) == nil {
			continue
		}
		address := net.JoinHostPort(strings.TrimSpace(server), "53")
		net.DefaultResolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn,
			error) {
			return (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, network, address)
		}}
		return
	}
}
