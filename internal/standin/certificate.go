package standin

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"time"

	"yorvet.example/yorvet/internal/clock"
)

// certificates are those of a service: of its throw-away authority, in PEM, of
// itself, and one that is not for it.
type certificates struct {
	authority    []byte
	right, wrong tls.Certificate
}

// newAuthority makes an authority that lives as long as the process, and what it
// certifies for a host.
func newAuthority(host string) (*certificates, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(clock.Machine().UnixNano()), Subject: pkix.Name{CommonName: "Yorvet stand-in authority"},
		NotBefore: clock.Machine().Add(-time.Hour), NotAfter: clock.Now().AddDate(1, 0, 0),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	authority, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	var encoded bytes.Buffer
	if err := pem.Encode(&encoded, &pem.Block{Type: "CERTIFICATE", Bytes: der}); err != nil {
		return nil, err
	}
	c := &certificates{authority: encoded.Bytes()}
	if c.right, err = certify(authority, key, host, "localhost"); err != nil {
		return nil, err
	}
	c.wrong, err = certify(authority, key, "elsewhere.example")
	return c, err
}

func certify(authority *x509.Certificate, signer *ecdsa.PrivateKey, hosts ...string) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(clock.Machine().UnixNano()), Subject: pkix.Name{CommonName: hosts[0]},
		NotBefore: clock.Machine().Add(-time.Hour), NotAfter: clock.Now().AddDate(1, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, host := range hosts {
		if ip := net.ParseIP(host); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, host)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, authority, &key.PublicKey, signer)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}
