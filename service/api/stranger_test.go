package api

import (
	"bytes"
	"crypto/tls"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsNoRequestIsNoFaultOfOurs sends what other protocols begin with to the console's port.
func TestWhatIsNoRequestIsNoFaultOfOurs(t *testing.T) {
	d := newDoor(t)
	hello := func() []byte { // as a browser that was given https begins
		near, far := net.Pipe()
		defer far.Close()
		go func() { _ = tls.Client(near, &tls.Config{ServerName: "localhost"}).Handshake() }()
		b := make([]byte, 2048)
		n, err := far.Read(b)
		require.NoError(t, err)
		return b[:n]
	}()
	for what, payload := range map[string][]byte{
		"a TLS hello": hello, "a TLS hello and more": append(bytes.Clone(hello), "\r\n\r\n"...), "zeros": make([]byte,
			600), "SSH": []byte("SSH-2.0-x\r\n"), "no request line": []byte("\r\n\r\n\r\n"),
		"no version": []byte("GET /\r\n\r\n"), "a method nobody knows": []byte("TIDE / HTTP/1.1\r\nHost: x\r\n\r\n"),
		"bytes": bytes.Repeat([]byte{0xff}, 9000),
	} {
		conn, err := net.Dial("tcp", d.address)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(3*time.Second)))
		_, _ = conn.Write(payload)
		_ = conn.(*net.TCPConn).CloseWrite() // the service may have hung up by now
		answer, _ := io.ReadAll(conn)
		require.NoError(t, conn.Close())
		if len(answer) > 0 {
			assert.Regexp(t, `^HTTP/1\.1 (4\d\d|501) `, string(answer), what)
			assert.NotContains(t, string(answer), "its log says more", what)
		}
	}
}
