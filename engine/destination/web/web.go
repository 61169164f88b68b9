// Package web is how drivers talk HTTP: who is trusted, when a connection
// counts as lost, and what an error means. It knows no storage.
package web

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/scan"
)

// Options say who is trusted and how long to wait.
type Options struct {
	// Authority is a PEM file of certificates that are trusted beside the
	// system's, "" for none.
	Authority string
	// Certificate is the fingerprint of the one certificate that is trusted,
	// "SHA256:" and 64 hex digits; "" trusts what an authority signed.
	Certificate string
	// Stall is how long nothing may move, 60 s when zero. There is no limit to
	// a whole request: a large file takes long.
	Stall time.Duration
	// Connections is how many are kept; 16 when zero.
	Connections int
}

// Transport makes the connections of one driver.
type Transport struct {
	base  *http.Transport
	stall time.Duration
	dials *atomic.Uint64
}

// New makes a transport; it connects when it is used.
func New(o Options) *Transport {
	if o.Stall == 0 {
		o.Stall = time.Minute
	}
	if o.Connections == 0 {
		o.Connections = 16
	}
	dialer := &net.Dialer{Timeout: min(o.Stall, 15*time.Second), Control: keepUnsentShort}
	dials := &atomic.Uint64{}
	return &Transport{stall: o.Stall, dials: dials, base: &http.Transport{
		Proxy: http.ProxyFromEnvironment,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			dials.Add(1)
			return dialer.DialContext(ctx, network, address)
		},
		MaxIdleConnsPerHost:   o.Connections,
		MaxConnsPerHost:       o.Connections,
		IdleConnTimeout:       90 * time.Second,
		TLSHandshakeTimeout:   15 * time.Second,
		ExpectContinueTimeout: 2 * time.Second,
		WriteBufferSize:       256 << 10,
		ReadBufferSize:        64 << 10,
		DisableCompression:    true,
		DialTLSContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			dials.Add(1)
			ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
			defer cancel()
			host, _, err := net.SplitHostPort(address)
			if err != nil {
				return nil, fmt.Errorf("reading the address: %w", err)
			}
			secured := tls.Dialer{NetDialer: dialer, Config: o.config(host)}
			return secured.DialContext(ctx, network, address)
		},
		// Through a proxy, where the connection tells the name that was asked for, and
		// no address: that is refused unless its certificate is pinned.
		TLSClientConfig: o.config(""),
	}}
}

// config has the certificate of host verified by verify, so that one that is not trusted can
// be shown. crypto/tls names no host that is an address, so it is given.
func (o Options) config(host string) *tls.Config {
	return &tls.Config{InsecureSkipVerify: true, VerifyConnection: func(c tls.ConnectionState) error {
		return verify(o, c, cmp.Or(host, c.ServerName))
	}}
}

// Stall is how long nothing may move.
func (t *Transport) Stall() time.Duration { return t.stall }

// Dials counts the connections that were made.
func (t *Transport) Dials() uint64 { return t.dials.Load() }

// CloseIdleConnections lets go of connections that nothing uses.
func (t *Transport) CloseIdleConnections() { t.base.CloseIdleConnections() }

// Untrusted tells that a server's certificate is not trusted.
type Untrusted struct {
	Fingerprint string // "SHA256:…"
	Subject     string
	Ends        time.Time
	Pinned      bool // the plan names another one
	Why         error
}

func (e Untrusted) Error() string { return "the certificate is not trusted: " + e.Why.Error() }

// maxAuthority is how long a file of authorities may be: a system's whole is less.
const maxAuthority = 1 << 20

// ReadAuthority reads the certificates in a PEM file (RFC 7468), and nothing else that may
// be in it.
func ReadAuthority(file string) ([]byte, error) {
	text, err := scan.ReadSmall(file, maxAuthority)
	if err != nil {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: "the authority's certificate cannot be read", Err: err}
	}
	var all []byte
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if _, err := x509.ParseCertificate(block.Bytes); err == nil && block.Type == "CERTIFICATE" {
			all = append(all, pem.EncodeToMemory(&pem.Block{Type: block.Type, Bytes: block.Bytes})...)
		}
	}
	if all == nil {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: file + " holds no certificate"}
	}
	return all, nil
}

// Fingerprint writes the SHA-256 of a certificate as the plan has it.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return "SHA256:" + hex.EncodeToString(sum[:])
}

// verify does what crypto/tls does, and with a pinned certificate takes that
// one and no other.
func verify(o Options, c tls.ConnectionState, host string) error {
	leaf := c.PeerCertificates[0] // crypto/tls has seen to it that there is one
	bad := Untrusted{Fingerprint: Fingerprint(leaf.Raw), Subject: leaf.Subject.CommonName, Ends: leaf.NotAfter}
	if o.Certificate != "" {
		if !strings.EqualFold(bad.Fingerprint, o.Certificate) {
			bad.Pinned, bad.Why = true, errors.New("it is not the one that the plan names")
			return bad
		}
		return nil
	}
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	if o.Authority != "" {
		pem, err := ReadAuthority(o.Authority)
		if err != nil {
			return err
		}
		roots.AppendCertsFromPEM(pem)
	}
	between := x509.NewCertPool()
	for _, cert := range c.PeerCertificates[1:] {
		between.AddCert(cert)
	}
	if host == "" { // x509 would take any
		bad.Why = errors.New("which address it is for cannot be checked through a proxy")
		return bad
	}
	if _, bad.Why = leaf.Verify(x509.VerifyOptions{DNSName: host, Roots: roots, Intermediates: between}); bad.Why != nil {
		return bad
	}
	return nil
}

// Peek connects to an https server at host:port and tells the certificate that
// it shows and whether it is trusted: the error is then nil, else an Untrusted
// or one of the connection.
func Peek(ctx context.Context, address string, o Options) (fingerprint string, err error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return "", fmt.Errorf("reading the address: %w", err)
	}
	dialer := &tls.Dialer{NetDialer: &net.Dialer{Timeout: 15 * time.Second},
		Config: &tls.Config{InsecureSkipVerify: true, VerifyConnection: func(c tls.ConnectionState) error {
			fingerprint = Fingerprint(c.PeerCertificates[0].Raw)
			return verify(o, c, host)
		}}}
	conn, err := dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return fingerprint, err
	}
	return fingerprint, conn.Close()
}

// errStalled is the cause when no byte moved for too long.
var errStalled = errors.New("no byte moved for too long")

// RoundTrip implements http.RoundTripper. A request on which nothing moves for
// the stall time is ended; its answer's body goes on being watched until it is
// closed.
func (t *Transport) RoundTrip(r *http.Request) (*http.Response, error) {
	ctx, cancel := context.WithCancelCause(r.Context())
	watch := time.AfterFunc(t.stall, func() { cancel(errStalled) })
	moved := func() { watch.Reset(t.stall) }
	r = r.Clone(ctx)
	if r.Body != nil && r.Body != http.NoBody {
		r.Body = watched{r.Body, moved, func() {}}
	}
	res, err := t.base.RoundTrip(r)
	if err != nil {
		watch.Stop()
		if why := context.Cause(ctx); errors.Is(why, errStalled) {
			err = errors.Join(why, err)
		}
		cancel(nil)
		return nil, err
	}
	moved()
	res.Body = watched{res.Body, moved, func() { watch.Stop(); cancel(nil) }}
	return res, nil
}

type watched struct {
	io.ReadCloser
	moved, end func()
}

func (w watched) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	w.moved()
	return n, err
}

func (w watched) Close() error {
	w.end()
	return w.ReadCloser.Close()
}

// Failure tells what an error of a connection to host means.
func Failure(err error, host string) error {
	var own *destination.Error
	if errors.As(err, &own) {
		return own
	}
	e := &destination.Error{Cause: queue.Unreachable, Err: err}
	var dns *net.DNSError
	var op *net.OpError
	var bad Untrusted
	switch {
	case errors.As(err, &bad):
		e.Cause, e.Err = queue.Identity, bad
		e.Says = fmt.Sprintf("%s shows a certificate that is not trusted, %s", host, bad.Fingerprint)
		if time.Now().After(bad.Ends) && !bad.Pinned {
			e.Says = fmt.Sprintf("the certificate of %s expired on %s", host, bad.Ends.Format(time.DateOnly))
		}
	case errors.Is(err, errStalled):
		e.Says = fmt.Sprintf("%s no longer answers", host)
	case errors.As(err, &dns):
		e.Says = fmt.Sprintf("the name %s cannot be looked up", host)
	case errors.As(err, &op) && op.Op == "dial":
		e.Says = fmt.Sprintf("%s does not answer", host)
	default:
		e.Says = fmt.Sprintf("the connection to %s was lost", host)
	}
	return e
}

// RetryAfter reads the header (RFC 9110, 10.2.3): seconds or a date, at most
// an hour.
func RetryAfter(value string, now time.Time) time.Duration {
	var wait time.Duration
	if n, err := strconv.Atoi(value); err == nil {
		wait = time.Duration(n) * time.Second
	} else if at, err := http.ParseTime(value); err == nil {
		wait = at.Sub(now)
	}
	return max(0, min(wait, time.Hour))
}
