package cluster

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/client-go/rest"
)

func TestWhenCredentialsEnd(t *testing.T) {
	end := time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: end}, &x509.Certificate{SerialNumber: big.NewInt(1)}, &key.PublicKey, key)
	require.NoError(t, err)
	cert := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	token := func(claims string) string { return "h." + base64.RawURLEncoding.EncodeToString([]byte(claims)) + ".s" }
	for name, c := range map[string]struct {
		rc   rest.Config
		what string
		at   time.Time
	}{
		"a certificate":                 {rest.Config{TLSClientConfig: rest.TLSClientConfig{CertData: cert}}, "client certificate", end},
		"no certificate":                {rest.Config{TLSClientConfig: rest.TLSClientConfig{CertData: []byte("none")}}, "", time.Time{}},
		"a token that ends":             {rest.Config{BearerToken: token(`{"exp":1803859200}`)}, "token", time.Unix(1803859200, 0)},
		"one that does not":             {rest.Config{BearerToken: token(`{"sub":"x"}`)}, "", time.Time{}},
		"one without sense":             {rest.Config{BearerToken: token(`{"exp":"soon"}`)}, "", time.Time{}},
		"far beyond what is a time":     {rest.Config{BearerToken: token(`{"exp":1e300}`)}, "", time.Time{}},
		"no such token":                 {rest.Config{BearerToken: "abc"}, "", time.Time{}},
		"of a file, which others renew": {rest.Config{BearerToken: token(`{"exp":1803859200}`), BearerTokenFile: "/var/run/token"}, "", time.Time{}},
	} {
		what, at := endOf(&c.rc)
		assert.Equal(t, c.what, what, name)
		assert.True(t, c.at.Equal(at), name)
	}
}
