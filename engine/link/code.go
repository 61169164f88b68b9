package link

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"fmt"
	"math/big"
	"net"
	"strconv"
	"strings"
	"time"
)

// Pin tells a service's key from any other: the first half of the SHA-256 of its public
// key (RFC 5280, SubjectPublicKeyInfo).
type Pin [16]byte

// secretBytes is how long the secret of a code is: 80 bits, of which five tries guess
// nothing.
const secretBytes = 10

// Code is what one device shows and the other is given, once: where the service is, that
// it is that one, and that the device may join.
type Code struct {
	Address string // host:port
	Secret  [secretBytes]byte
	Pin     Pin
	Pinned  bool // else it was typed by hand, without the pin
}

// letters are those of a code: upper case without padding, so that a QR picture of it
// stays small (ISO/IEC 18004, alphanumeric mode) and a person can type it.
var letters = base32.StdEncoding.WithPadding(base32.NoPadding)

// NewSecret makes a code's secret.
func NewSecret() (s [secretBytes]byte) {
	_, _ = rand.Read(s[:]) // it never fails (crypto/rand)
	return s
}

// String is the code whole, with its pin.
func (c Code) String() string {
	return "HTTPS://" + strings.ToUpper(c.Address) + "/J/" + letters.EncodeToString(append(c.Secret[:], c.Pin[:]...))
}

// ByHand is the code as a person types it: without the pin, which is compared then.
func (c Code) ByHand() string {
	return c.Address + "/" + InFours(letters.EncodeToString(c.Secret[:]))
}

// InFours parts a text into groups of four, as people read and type it.
func InFours(s string) string {
	var parts []string
	for ; len(s) > 4; s = s[4:] {
		parts = append(parts, s[:4])
	}
	return strings.Join(append(parts, s), "-")
}

// String is the pin as people compare it.
func (p Pin) String() string { return InFours(hex.EncodeToString(p[:])) }

// ErrNoCode tells that a text is no code, in whatever way.
var ErrNoCode = errors.New("this is not a code to join with; it looks like 192.168.1.20:7443/ABCD-EFGH-IJKL-MNOP " +
	"or HTTPS://192.168.1.20:7443/J/… (on the service's machine: yardtide device add NAME)")

// ParseCode reads a code, typed by hand or not.
func ParseCode(text string) (c Code, err error) {
	text = strings.TrimSpace(text)
	if len(text) > 400 {
		return c, ErrNoCode
	}
	upper := strings.ToUpper(text)
	rest, whole := strings.CutPrefix(upper, "HTTPS://")
	address, secret, found := strings.Cut(rest, "/")
	if whole {
		var mark bool
		if secret, mark = strings.CutPrefix(secret, "J/"); !mark {
			return c, ErrNoCode
		}
	}
	if !found || !isAddress(strings.ToLower(address)) {
		return c, ErrNoCode
	}
	bits, err := letters.DecodeString(strings.NewReplacer("-", "", " ", "").Replace(secret))
	switch {
	case err != nil:
		return c, ErrNoCode
	case whole && len(bits) == secretBytes+len(c.Pin):
		copy(c.Pin[:], bits[secretBytes:])
		c.Pinned = true
	case whole || len(bits) != secretBytes:
		return c, ErrNoCode
	}
	c.Address = strings.ToLower(address)
	copy(c.Secret[:], bits)
	return c, nil
}

// isAddress tells whether a text is a host with a port.
func isAddress(text string) bool {
	host, port, err := net.SplitHostPort(text)
	if err != nil || host == "" || strings.ContainsAny(host, "/?#@% ") {
		return false
	}
	n, err := strconv.ParseUint(port, 10, 16)
	return err == nil && n > 0
}

// PinOf is the pin of a certificate's key.
func PinOf(cert *x509.Certificate) (p Pin) {
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	copy(p[:], sum[:])
	return p
}

// NewKey makes a service's key (NIST P-256), in PKCS #8.
func NewKey() ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, fmt.Errorf("making the key for the home network: %w", err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, fmt.Errorf("making the key for the home network: %w", err)
	}
	return der, nil
}

// Certificate is one of a key's own: who is asked is told by the pin, not by a name.
func Certificate(der []byte) (tls.Certificate, Pin, error) {
	parsed, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return tls.Certificate{}, Pin{}, fmt.Errorf("reading the key for the home network: %w", err)
	}
	key, is := parsed.(*ecdsa.PrivateKey)
	if !is {
		return tls.Certificate{}, Pin{}, fmt.Errorf("reading the key for the home network: it is of the kind %T", parsed)
	}
	template := x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Yard Tide"}, DNSNames: []string{"yardtide"},
		NotBefore: time.Unix(0, 0), NotAfter: time.Date(9999, 12, 31, 23, 59, 59, 0,
			time.UTC), // RFC 5280, 4.1.2.5: it does not end
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	cert, err := x509.CreateCertificate(rand.Reader, &template, &template, key.Public(), key)
	if err != nil {
		return tls.Certificate{}, Pin{}, fmt.Errorf("making the certificate for the home network: %w", err)
	}
	leaf, err := x509.ParseCertificate(cert)
	if err != nil {
		return tls.Certificate{}, Pin{}, fmt.Errorf("making the certificate for the home network: %w", err)
	}
	return tls.Certificate{Certificate: [][]byte{cert}, PrivateKey: key, Leaf: leaf}, PinOf(leaf), nil
}

// OtherKey tells that another key answers than the one that was pinned: a stranger, or a
// service that was begun anew.
type OtherKey struct{ Address string }

func (e OtherKey) Error() string {
	return fmt.Sprintf("what answers at %s is not the service that this device joined: it has another key. If the "+
		"service was begun anew, join again; else a stranger is between them", e.Address)
}

// pinned accepts the one key, whatever address and date there are.
func pinned(address string, pin Pin) *tls.Config {
	return &tls.Config{
		MinVersion:         tls.VersionTLS13,
		InsecureSkipVerify: true, // the pin is what is verified
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 || PinOf(s.PeerCertificates[0]) != pin {
				return OtherKey{address}
			}
			return nil
		},
	}
}
