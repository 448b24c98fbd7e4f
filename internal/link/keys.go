package link

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"
	"net"
	"time"
)

// Key is one side's key pair. Its name is the digest of its public half, by which the other side knows it.
type Key struct {
	private ed25519.PrivateKey
	cert    tls.Certificate
}

// NewKey makes a key pair.
func NewKey() (*Key, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return keyOf(private)
}

// ParseKey reads what Seed gave.
func ParseKey(seed []byte) (*Key, error) {
	if len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("a key has %d bytes, and this %d", ed25519.SeedSize, len(seed))
	}
	return keyOf(ed25519.NewKeyFromSeed(seed))
}

// Seed is the private half; it is secret.
func (k *Key) Seed() []byte { return k.private.Seed() }

// Name is the digest of the public half: SHA-256 of its SubjectPublicKeyInfo (RFC 5280), in URL-safe base64.
func (k *Key) Name() string {
	leaf, err := x509.ParseCertificate(k.cert.Certificate[0])
	if err != nil { // it was made here
		panic(err)
	}
	return nameOf(leaf)
}

// IsName tells whether a text may be the name of a key.
func IsName(text string) bool {
	b, err := base64.RawURLEncoding.DecodeString(text)
	return err == nil && len(b) == sha256.Size
}

func nameOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// keyOf makes the certificate that TLS wants around a key. Nothing in it means anything but the key: either side has that pinned.
func keyOf(private ed25519.PrivateKey) (*Key, error) {
	what := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "vigila"}, NotBefore: time.Unix(0, 0), NotAfter: time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)}
	der, err := x509.CreateCertificate(rand.Reader, what, what, private.Public(), private)
	if err != nil {
		return nil, err
	}
	return &Key{private, tls.Certificate{Certificate: [][]byte{der}, PrivateKey: private}}, nil
}

// Protocol names what is spoken within TLS.
const Protocol = "vigila-lookout"

// handshake is how long two sides have to show their keys.
const handshake = 20 * time.Second

// ErrKey tells that the other side has another key than the one that was expected.
var ErrKey = errors.New("the other side has another key than the one that it is known by")

// Call begins TLS as the side that called, and refuses whoever has another key than the service's.
func Call(ctx context.Context, conn net.Conn, own *Key, service string) (net.Conn, error) {
	c := tls.Client(conn, &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{own.cert}, NextProtos: []string{Protocol},
		InsecureSkipVerify: true, // no authority signs these keys; the one key that is taken is checked below
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 || subtle.ConstantTimeCompare([]byte(nameOf(s.PeerCertificates[0])), []byte(service)) != 1 {
				return ErrKey
			}
			return nil
		}})
	return shake(ctx, c)
}

// Answer begins TLS as the side that was called: caller is the name of the key that the other side has.
func Answer(ctx context.Context, conn net.Conn, own *Key) (c net.Conn, caller string, err error) {
	s := tls.Server(conn, &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{own.cert}, NextProtos: []string{Protocol}, ClientAuth: tls.RequireAnyClientCert, SessionTicketsDisabled: true})
	if _, err := shake(ctx, s); err != nil {
		return nil, "", err
	}
	return s, nameOf(s.ConnectionState().PeerCertificates[0]), nil
}

func shake(ctx context.Context, c *tls.Conn) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, handshake)
	defer cancel()
	if err := c.HandshakeContext(ctx); err != nil {
		_ = c.Close()
		return nil, err
	}
	return c, nil
}
