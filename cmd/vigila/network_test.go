package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOtherMachinesAreNotServedInTheClear(t *testing.T) {
	for listen, want := range map[string]string{"127.0.0.1:7740": "", "[::1]:0": "", "localhost:1": "", "0.0.0.0:7740": "tokens would go over the network", ":7740": "tokens would go over the network",
		"10.1.2.3:1": "tokens would go over the network", "skerry.brindle.example:1": "tokens would go over the network", "7740": "write an address with a port"} {
		err := settings{Listen: listen}.overTheNetwork()
		if want == "" {
			require.NoError(t, err, listen)
			continue
		}
		require.ErrorContains(t, err, want, listen)
		require.NoError(t, settings{Listen: listen, PlainHTTP: true}.overTheNetwork())
		require.NoError(t, settings{Listen: listen, TLSCert: "c", TLSKey: "k"}.overTheNetwork())
	}
	require.ErrorContains(t, settings{Listen: "127.0.0.1:1", TLSCert: "c"}.overTheNetwork(), "go together")
	require.ErrorContains(t, settings{Listen: "127.0.0.1:1", TrustedProxies: "10.0.0.0/8, gate"}.overTheNetwork(), `"gate" is neither`)
}

// TestACertificateIsReadAnew when its files change; a broken one never takes the place of one that works.
func TestACertificateIsReadAnew(t *testing.T) {
	dir := t.TempDir()
	c := &certificate{cert: filepath.Join(dir, "c.pem"), key: filepath.Join(dir, "k.pem"), log: slog.New(slog.DiscardHandler)}
	_, err := c.get(nil)
	require.ErrorContains(t, err, "the certificate can't be used")
	write := func(serial int64, at time.Time) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		of := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "quay"}, NotAfter: time.Now().Add(time.Hour)}
		der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
		require.NoError(t, err)
		pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(c.cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
		require.NoError(t, os.WriteFile(c.key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}), 0o600))
		require.NoError(t, os.Chtimes(c.cert, at, at))
	}
	serial := func() int64 {
		pair, err := c.get(nil)
		require.NoError(t, err)
		leaf, err := x509.ParseCertificate(pair.Certificate[0])
		require.NoError(t, err)
		return leaf.SerialNumber.Int64()
	}
	now := time.Now()
	write(1, now)
	assert.EqualValues(t, 1, serial())
	write(2, now.Add(time.Second))
	assert.EqualValues(t, 2, serial())
	require.NoError(t, os.WriteFile(c.key, []byte("no key"), 0o600))
	require.NoError(t, os.Chtimes(c.key, now.Add(time.Hour), now.Add(time.Hour)))
	assert.EqualValues(t, 2, serial())
}
