package household

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"yardtide/engine/atomicfile"
	"yardtide/engine/link"
)

// This file makes the certificates by which a phone's browser knows the service. A small authority of the yard's own signs
// them: a phone that is led to trust it once warns no more, whatever address the service has. It speaks for addresses and
// names of home networks alone (RFC 5280, 4.2.1.10), so that who has its key can be nobody on the internet.

// Authority is the yard's own. It is safe for concurrent use.
type Authority struct {
	own  tls.Certificate // of the home network, without a name
	cert *x509.Certificate
	key  *ecdsa.PrivateKey

	mu     sync.Mutex
	leaves map[string]*tls.Certificate // by the name or address that they are for
}

// leafLife is how long a certificate lasts. Phones take none that lasts longer than 398 days.
const leafLife = 300 * 24 * time.Hour

// mostLeaves bounds the names that a stranger can have certificates made for.
const mostLeaves = 64

// OpenAuthority reads the authority that is kept in a folder, or makes it. Its certificates are for the key of the home
// network's own.
func OpenAuthority(dir string, own tls.Certificate) (*Authority, error) {
	file := filepath.Join(dir, "phone-authority.der")
	keyFile := filepath.Join(dir, "phone-authority.key")
	der, err := os.ReadFile(keyFile)
	if errors.Is(err, fs.ErrNotExist) {
		if der, err = link.NewKey(); err == nil {
			err = atomicfile.Write(keyFile, string(der))
		}
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the key of the yard's certificates: %w", err)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(der)
	key, is := parsed.(*ecdsa.PrivateKey)
	if err != nil || !is {
		return nil, fmt.Errorf("the key of the yard's certificates in %s is damaged; remove the file: phones are then led to trust a new one", keyFile)
	}
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if raw, err = newAuthority(key); err == nil {
			err = atomicfile.Write(file, string(raw))
		}
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the yard's certificate: %w", err)
	}
	cert, err := x509.ParseCertificate(raw)
	if err != nil {
		return nil, fmt.Errorf("the yard's certificate in %s is damaged; remove the file: %w", file, err)
	}
	return &Authority{own: own, cert: cert, key: key, leaves: map[string]*tls.Certificate{}}, nil
}

func newAuthority(key *ecdsa.PrivateKey) ([]byte, error) {
	template := x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: "Yard Tide, this household's own"},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().AddDate(20, 0, 0),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign,
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: []string{"local", "home.arpa", "internal", "lan", "test", "localhost"},
	}
	for _, network := range []string{"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "127.0.0.0/8", "100.64.0.0/10", "fc00::/7",
		"fe80::/10", "::1/128"} {
		_, n, err := net.ParseCIDR(network)
		if err != nil {
			return nil, fmt.Errorf("writing the yard's certificate: %w", err)
		}
		template.PermittedIPRanges = append(template.PermittedIPRanges, n)
	}
	raw, err := x509.CreateCertificate(rand.Reader, &template, &template, key.Public(), key)
	if err != nil {
		return nil, fmt.Errorf("making the yard's certificate: %w", err)
	}
	return raw, nil
}

// DER is the certificate that phones may be led to trust.
func (a *Authority) DER() []byte { return a.cert.Raw }

// For is the service's certificate for the name or address at which it is called. Its key is the one that devices pin.
func (a *Authority) For(hello *tls.ClientHelloInfo, now time.Time) (*tls.Certificate, error) {
	host := hello.ServerName
	if host == "" && hello.Conn != nil { // an address is no name: none is sent (RFC 6066, 3)
		host, _, _ = net.SplitHostPort(hello.Conn.LocalAddr().String())
	}
	if host == "" || host == "yardtide" {
		return &a.own, nil
	}
	return a.leaf(host, now)
}

// serial makes a number for a certificate (RFC 5280, 4.1.2.2).
func serial() *big.Int {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // it never fails (crypto/rand)
	b[0] &= 0x7f
	return new(big.Int).SetBytes(b)
}

func (a *Authority) leaf(host string, now time.Time) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if one, known := a.leaves[host]; known && now.Before(one.Leaf.NotAfter.Add(-24*time.Hour)) {
		return one, nil
	}
	if len(a.leaves) >= mostLeaves {
		clear(a.leaves)
	}
	template := x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Yard Tide"},
		NotBefore: now.Add(-24 * time.Hour), NotAfter: now.Add(leafLife), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if ip := net.ParseIP(host); ip != nil {
		template.IPAddresses = []net.IP{ip}
	} else {
		template.DNSNames = []string{host}
	}
	signer, is := a.own.PrivateKey.(crypto.Signer)
	if !is {
		return nil, errors.New("the key for the home network signs nothing")
	}
	raw, err := x509.CreateCertificate(rand.Reader, &template, a.cert, signer.Public(), a.key)
	if err != nil {
		return nil, fmt.Errorf("making a certificate: %w", err)
	}
	leaf, err := x509.ParseCertificate(raw)
	if err != nil {
		return nil, fmt.Errorf("making a certificate: %w", err)
	}
	one := &tls.Certificate{Certificate: [][]byte{raw, a.cert.Raw}, PrivateKey: a.own.PrivateKey, Leaf: leaf}
	a.leaves[host] = one
	return one, nil
}

// HostKey is the key by which apps know the service over SSH. It is the one for the home network.
func (a *Authority) HostKey() ssh.Signer {
	key, err := ssh.NewSignerFromKey(a.own.PrivateKey)
	if err != nil {
		panic(err) // it is of NIST P-256, which ssh knows
	}
	return key
}
