package web_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/web"
)

// authority signs the certificates of servers.
type authority struct {
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
	file string
}

func newAuthority(t *testing.T) authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	as := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "the yard's authority"},
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, as, as, key.Public(), key)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "authority.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return authority{key, cert, file}
}

// serve runs a server with a certificate for names and addresses, signed by the authority or
// by itself, and tells its port and fingerprint.
func (a authority) serve(t *testing.T, for_ []string, ends time.Time, selfSigned bool) (port, fingerprint string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	as := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "storage"},
		NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: ends}
	for _, name := range for_ {
		if ip := net.ParseIP(name); ip != nil {
			as.IPAddresses = append(as.IPAddresses, ip)
		} else {
			as.DNSNames = append(as.DNSNames, name)
		}
	}
	parent, signer := a.cert, a.key
	if selfSigned {
		parent, signer = as, key
	}
	der, err := x509.CreateCertificate(rand.Reader, as, parent, key.Public(), signer)
	require.NoError(t, err)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		w.WriteHeader(http.StatusNoContent)
	}))
	server.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	server.Config.ErrorLog = nil
	server.StartTLS()
	t.Cleanup(server.Close)
	at, err := url.Parse(server.URL)
	require.NoError(t, err)
	return at.Port(), web.Fingerprint(der)
}

// TestTheHostThatWasAskedForIsChecked asks servers by name and by address, with certificates
// for that host and for others.
func TestTheHostThatWasAskedForIsChecked(t *testing.T) {
	a := newAuthority(t)
	later, before := time.Now().Add(time.Hour), time.Now().Add(-time.Hour)
	for what, c := range map[string]struct {
		host       string
		named      []string
		ends       time.Time
		selfSigned bool
		pin        string // "own", "another"
		trusted    bool
	}{
		"its name":    {host: "localhost", named: []string{"localhost"}, ends: later, trusted: true},
		"its address": {host: "127.0.0.1", named: []string{"127.0.0.1"}, ends: later, trusted: true},
		"its address of several": {host: "127.0.0.1", named: []string{"storage.test", "10.0.0.1", "127.0.0.1"},
			ends: later, trusted: true},
		"another name":                   {host: "localhost", named: []string{"storage.test"}, ends: later},
		"another name than the address":  {host: "127.0.0.1", named: []string{"storage.test"}, ends: later},
		"another address":                {host: "127.0.0.1", named: []string{"127.0.0.2"}, ends: later},
		"an address instead of the name": {host: "localhost", named: []string{"127.0.0.1"}, ends: later},
		"a name instead of the address":  {host: "127.0.0.1", named: []string{"localhost"}, ends: later},
		"no name at all, by address":     {host: "127.0.0.1", ends: later},
		"no name at all, by name":        {host: "localhost", ends: later},
		"expired, by address":            {host: "127.0.0.1", named: []string{"127.0.0.1"}, ends: before},
		"expired, by name":               {host: "localhost", named: []string{"localhost"}, ends: before},
		"signed by itself, by address":   {host: "127.0.0.1", named: []string{"127.0.0.1"}, ends: later, selfSigned: true},
		"signed by itself, by name":      {host: "localhost", named: []string{"localhost"}, ends: later, selfSigned: true},
		"pinned, for another, by address": {host: "127.0.0.1", named: []string{"storage.test"}, ends: before,
			selfSigned: true, pin: "own", trusted: true},
		"another is pinned, by address": {host: "127.0.0.1", named: []string{"127.0.0.1"}, ends: later, pin: "another"},
		"another is pinned, by name":    {host: "localhost", named: []string{"localhost"}, ends: later, pin: "another"},
	} {
		t.Run(what, func(t *testing.T) {
			port, fingerprint := a.serve(t, c.named, c.ends, c.selfSigned)
			o := web.Options{Authority: a.file}
			switch c.pin {
			case "own":
				o.Certificate = fingerprint
			case "another":
				o.Certificate = "SHA256:" + strings.Repeat("ab", 32)
			}
			transport := web.New(o)
			r, err := http.NewRequestWithContext(t.Context(), http.MethodHead, "https://"+net.JoinHostPort(c.host, port)+"/",
				nil)
			require.NoError(t, err)
			answer, err := transport.RoundTrip(r)
			if err == nil {
				require.NoError(t, answer.Body.Close())
			}
			seen, perr := web.Peek(t.Context(), net.JoinHostPort(c.host, port), o)
			assert.Equal(t, fingerprint, seen, "what it shows is told in any case")
			if c.trusted {
				assert.NoError(t, err)
				assert.NoError(t, perr)
				return
			}
			var bad web.Untrusted
			require.ErrorAs(t, err, &bad)
			require.ErrorAs(t, perr, &bad)
			assert.Equal(t, queue.Identity, destination.CauseOf(web.Failure(err, c.host)))
		})
	}
}
