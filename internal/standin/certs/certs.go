// Package certs makes the certificates of simulated systems.
package certs

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// Make writes a CA (ca.pem), a server's certificate for 127.0.0.1 and localhost (server.pem,
// server.key) and a client's (client.pem, client.key) into a folder, if they are not there;
// expired ones ended yesterday.
func Make(dir string, expired bool) error {
	if _, err := os.Stat(filepath.Join(dir, "ca.pem")); err == nil {
		return nil
	}
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Larkspur test CA"}, NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: time.Now().AddDate(5, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	caKey, err := issue(dir, "ca", ca, ca, nil)
	if err != nil {
		return err
	}
	leaf := func(serial int64, name string) *x509.Certificate {
		return &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, NotBefore: ca.NotBefore, NotAfter: time.Now().AddDate(2, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	}
	server := leaf(2, "server")
	server.IPAddresses, server.DNSNames = []net.IP{net.IPv4(127, 0, 0, 1)}, []string{"localhost"}
	if expired {
		server.NotAfter = time.Now().Add(-24 * time.Hour)
	}
	if _, err := issue(dir, "server", server, ca, caKey); err != nil {
		return err
	}
	_, err = issue(dir, "client", leaf(3, "client"), ca, caKey)
	return err
}

// issue makes a key and a certificate signed by the given one; without a
// signing key it signs itself.
func issue(dir, name string, template, signer *x509.Certificate, signing *ecdsa.PrivateKey) (*ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	if signing == nil {
		signing = key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, signer, &key.PublicKey, signing)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, name+".key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600); err != nil {
		return nil, err
	}
	return key, os.WriteFile(filepath.Join(dir, name+".pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
}
