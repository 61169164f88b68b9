package server

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// Authority is a household's own certificate authority.
type Authority struct {
	File string // its certificate, PEM
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// NewAuthority makes one and writes its certificate into dir.
func NewAuthority(dir string) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, fmt.Errorf("making an authority: %w", err)
	}
	form := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Saltmarsh Slip"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, form, form, &key.PublicKey, key)
	if err != nil {
		return nil, fmt.Errorf("making an authority: %w", err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, fmt.Errorf("making an authority: %w", err)
	}
	a := &Authority{File: filepath.Join(dir, "authority.pem"), cert: cert, key: key}
	return a, writePEM(a.File, "CERTIFICATE", der)
}

// Certificate is a server's certificate with its key.
type Certificate struct {
	File, Key string // PEM
	// Fingerprint is the SHA-256 of the certificate.
	Fingerprint [sha256.Size]byte
}

// Certify makes a certificate for 127.0.0.1 that ends at a time.
func (a *Authority) Certify(dir string, ends time.Time) (Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Certificate{}, fmt.Errorf("making a certificate: %w", err)
	}
	form := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject: pkix.Name{CommonName: "127.0.0.1"}, NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: ends,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, form, a.cert, &key.PublicKey, a.key)
	if err != nil {
		return Certificate{}, fmt.Errorf("making a certificate: %w", err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return Certificate{}, fmt.Errorf("making a certificate: %w", err)
	}
	c := Certificate{File: filepath.Join(dir, "server.pem"), Key: filepath.Join(dir, "server.key"),
		Fingerprint: sha256.Sum256(der)}
	return c, errors.Join(writePEM(c.File, "CERTIFICATE", der), writePEM(c.Key, "PRIVATE KEY", secret))
}

func writePEM(file, kind string, der []byte) error {
	if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600); err != nil {
		return fmt.Errorf("writing a certificate: %w", err)
	}
	return nil
}
