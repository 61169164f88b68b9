package link

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"
)

// Home is the service that a device joined: where it is, by what it is known, and what
// the device shows it. It holds a secret.
type Home struct {
	Address string `json:"address"` // host:port, or unix: and the path of a socket on this machine
	Pin     Pin    `json:"pin"`
	Token   []byte `json:"token"`
	Device  string `json:"device"`
	Yard    string `json:"yard"`
}

// caller calls a service over the network that it is on.
type caller struct {
	home Home
	http *http.Client
}

// answerTime is how long a service may take for an answer, beside what it is asked to
// wait for.
const answerTime = 20 * time.Second

func newCaller(h Home) *caller {
	dial := (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}).DialContext
	if socket, local := strings.CutPrefix(h.Address, "unix:"); local {
		dial = func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "unix", socket)
		}
	}
	return &caller{h, &http.Client{Transport: &http.Transport{
		TLSClientConfig: pinned(h.Address, h.Pin), DialContext: dial,
		TLSHandshakeTimeout: 10 * time.Second, MaxIdleConns: 8, MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute,
		DisableCompression: true, Proxy: nil,
	}}}
}

// host is what the address is called in a call.
func (c *caller) host() string {
	if strings.HasPrefix(c.home.Address, "unix:") {
		return "yardtide"
	}
	return c.home.Address
}

func (c *caller) close() { c.http.CloseIdleConnections() }

// mostAnswered bounds an answer.
const mostAnswered = 8 << 20

// call sends a body and reads the answer into a value; both may be nil. The error is
// *Refusal where the service refused.
func (c *caller) call(ctx context.Context, path string, body []byte, kind string, into any) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+c.host()+path, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("asking the service: %w", err)
	}
	req.Header.Set("Content-Type", kind)
	req.Header.Set("Authorization", "Bearer "+hex.EncodeToString(c.home.Token))
	answer, err := c.http.Do(req)
	if err != nil {
		var other OtherKey
		if errors.As(err, &other) {
			return other
		}
		return fmt.Errorf("asking the service: %w", err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostAnswered))
	if err != nil {
		return fmt.Errorf("reading the service's answer: %w", err)
	}
	if answer.StatusCode >= 300 {
		refused := &Refusal{Status: answer.StatusCode}
		if err := json.Unmarshal(text, refused); err != nil || refused.Detail == "" {
			refused.Detail = "the service answered " + answer.Status
		}
		refused.Status = answer.StatusCode
		return refused
	}
	if into == nil {
		return nil
	}
	if err := json.Unmarshal(text, into); err != nil {
		return fmt.Errorf("reading the service's answer: %w", err)
	}
	return nil
}

// ask is call with JSON, within the time for an answer and more that it may wait.
func (c *caller) ask(ctx context.Context, path string, v, into any, more time.Duration) error {
	body, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("asking the service: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, answerTime+more)
	defer cancel()
	return c.call(ctx, path, body, "application/json", into)
}

// refusedWith tells whether a service refused, with a status.
func refusedWith(err error, status int) bool {
	var r *Refusal
	return errors.As(err, &r) && r.Status == status
}

// KeyAt tells the pin of the key that answers at an address, for a person to compare.
func KeyAt(ctx context.Context, address string) (Pin, error) {
	d := tls.Dialer{NetDialer: &net.Dialer{Timeout: 10 * time.Second},
		Config: &tls.Config{MinVersion: tls.VersionTLS13, InsecureSkipVerify: true}} // nothing is said yet
	conn, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return Pin{}, fmt.Errorf("reaching the service at %s: %w", address, err)
	}
	defer conn.Close()
	certs := conn.(*tls.Conn).ConnectionState().PeerCertificates
	if len(certs) == 0 {
		return Pin{}, fmt.Errorf("what answers at %s shows no key", address)
	}
	return PinOf(certs[0]), nil
}

// JoinBy joins by a code: the token is the device's, and may be shown again when an
// answer was lost.
func JoinBy(ctx context.Context, c Code, token []byte, recipient, version string) (Home, error) {
	h := Home{Address: c.Address, Pin: c.Pin, Token: token}
	caller := newCaller(h)
	defer caller.close()
	var joined Joined
	if err := caller.ask(ctx, "/join", Join{Secret: c.Secret[:], Token: token, Recipient: recipient, Version: version},
		&joined, 0); err != nil {
		return h, err
	}
	h.Device, h.Yard = joined.Device, joined.Yard
	return h, nil
}
