package household

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
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

// authority is the yard's own.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey

	mu     sync.Mutex
	leaves map[string]*tls.Certificate // by the name or address that they are for
}

// leafLife is how long a certificate lasts. Phones take none that lasts longer than 398 days.
const leafLife = 300 * 24 * time.Hour

// mostLeaves bounds the names that a stranger can have certificates made for.
const mostLeaves = 64

// openAuthority reads the authority, or makes it.
func (h *Household) openAuthority() error {
	file := filepath.Join(h.Dir, "phone-authority.der")
	keyFile := filepath.Join(h.Dir, "phone-authority.key")
	der, err := os.ReadFile(keyFile)
	if errors.Is(err, fs.ErrNotExist) {
		if der, err = link.NewKey(); err == nil {
			err = atomicfile.Write(keyFile, string(der))
		}
	}
	if err != nil {
		return fmt.Errorf("keeping the key of the yard's certificates: %w", err)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(der)
	key, is := parsed.(*ecdsa.PrivateKey)
	if err != nil || !is {
		return fmt.Errorf("the key of the yard's certificates in %s is damaged; remove the file: phones are then led to trust a new one", keyFile)
	}
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if raw, err = newAuthority(key); err == nil {
			err = atomicfile.Write(file, string(raw))
		}
	}
	if err != nil {
		return fmt.Errorf("keeping the yard's certificate: %w", err)
	}
	cert, err := x509.ParseCertificate(raw)
	if err != nil {
		return fmt.Errorf("the yard's certificate in %s is damaged; remove the file: %w", file, err)
	}
	h.authority = &authority{cert: cert, key: key, leaves: map[string]*tls.Certificate{}}
	return nil
}

func newAuthority(key *ecdsa.PrivateKey) ([]byte, error) {
	sum := sha256.Sum256(key.PublicKey.X.Bytes())
	template := x509.Certificate{
		SerialNumber: new(big.Int).SetBytes(sum[:8]), Subject: pkix.Name{CommonName: "Yard Tide, this household's own"},
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

// Authority is the certificate that phones may be led to trust, in DER; nil where there is none.
func (h *Household) Authority() []byte {
	if h.authority == nil {
		return nil
	}
	return h.authority.cert.Raw
}

// CertificateFor is the service's certificate for the name or address at which it is called. Its key is the one that
// devices pin.
func (h *Household) CertificateFor(hello *tls.ClientHelloInfo, now time.Time) (*tls.Certificate, error) {
	host := hello.ServerName
	if host == "" && hello.Conn != nil { // an address is no name: none is sent (RFC 6066, 3)
		host, _, _ = net.SplitHostPort(hello.Conn.LocalAddr().String())
	}
	if h.authority == nil || host == "" || host == "yardtide" {
		return &h.cert, nil
	}
	return h.authority.leaf(host, h.cert.PrivateKey, now)
}

func (a *authority) leaf(host string, key crypto.PrivateKey, now time.Time) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if one, known := a.leaves[host]; known && now.Before(one.Leaf.NotAfter.Add(-24*time.Hour)) {
		return one, nil
	}
	if len(a.leaves) >= mostLeaves {
		clear(a.leaves)
	}
	serial := make([]byte, 16)
	_, _ = rand.Read(serial) // it never fails (crypto/rand)
	binary.BigEndian.PutUint16(serial, binary.BigEndian.Uint16(serial)&0x7fff)
	template := x509.Certificate{SerialNumber: new(big.Int).SetBytes(serial), Subject: pkix.Name{CommonName: "Yard Tide"},
		NotBefore: now.Add(-24 * time.Hour), NotAfter: now.Add(leafLife), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if ip := net.ParseIP(host); ip != nil {
		template.IPAddresses = []net.IP{ip}
	} else {
		template.DNSNames = []string{host}
	}
	signer, is := key.(crypto.Signer)
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
	one := &tls.Certificate{Certificate: [][]byte{raw, a.cert.Raw}, PrivateKey: key, Leaf: leaf}
	a.leaves[host] = one
	return one, nil
}

// HostKey is the key by which apps know the service over SSH. It is the one for the home network.
func (h *Household) HostKey() ssh.Signer {
	key, err := ssh.NewSignerFromKey(h.cert.PrivateKey)
	if err != nil {
		panic(err) // it is of NIST P-256, which ssh knows
	}
	return key
}

// UseKey has the household use a key for the home network, in PKCS #8.
func (h *Household) UseKey(der []byte) (err error) {
	h.cert, h.pin, err = link.Certificate(der)
	return err
}
