package api

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/link"
)

// TestStrangersShutNoDeviceOut has silent connections stand at the door, more than are answered
// at once, some of them after the handshake.
func TestStrangersShutNoDeviceOut(t *testing.T) {
	y := newGuestYard(t)
	host := strings.TrimPrefix(y.at, "https://")
	var silent []net.Conn
	defer func() {
		for _, c := range silent {
			_ = c.Close()
		}
	}()
	for i := range mostKnownCalls + 2*mostStrangers {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(2+i%40))}, Timeout: 2 * time.Second}
		c, err := dialer.DialContext(t.Context(), "tcp", host)
		if err != nil {
			continue // turned away
		}
		silent = append(silent, c)
		if i%8 == 0 {
			secured := tls.Client(c, &tls.Config{InsecureSkipVerify: true})
			_ = secured.SetDeadline(time.Now().Add(time.Second))
			_ = secured.Handshake()
		}
	}
	require.Greater(t, len(silent), mostKnownCalls)
	y.client.Timeout = 3 * time.Second
	body, err := json.Marshal(link.Asked{Boot: "boot"})
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, y.post("guest", "/link/others/ended", body), "over a connection that it had")
	y.client.Transport.(*http.Transport).CloseIdleConnections()
	require.Eventually(t, func() bool { return y.post("guest", "/link/others/ended", body) == http.StatusOK },
		greetTime+time.Minute, 50*time.Millisecond, "over a new one, once the silent ones' time is over")
}

func TestOneAddressHasFewStrangers(t *testing.T) {
	var told bytes.Buffer
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := newPorch(l, &tls.Config{}, slog.New(slog.NewTextHandler(&told, nil)))
	var all []net.Conn
	for range 3 * mostFromOne {
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		all = append(all, c)
	}
	require.Eventually(t, func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.turned == 2*mostFromOne && len(p.strangers) == mostFromOne
	}, time.Minute, 10*time.Millisecond)
	require.NoError(t, all[0].SetReadDeadline(time.Now().Add(2*time.Second)))
	_, err = all[0].Read(make([]byte, 1))
	assert.Error(t, err, "the oldest made room")
	require.NoError(t, p.Close())
	for _, c := range all {
		_ = c.Close()
	}
	_, err = p.Accept()
	assert.ErrorIs(t, err, net.ErrClosed)
}
