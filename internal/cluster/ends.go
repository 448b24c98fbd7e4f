package cluster

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"strings"
	"time"

	"k8s.io/client-go/rest"
)

// CredentialsEnd is what the cluster is signed in to with that ends by itself, and when; a zero time when nothing is known to. A token that is kept in a file is
// renewed there by others, and is not spoken of.
func (c *Cluster) CredentialsEnd() (what string, at time.Time) { return c.endsWhat, c.ends }

func endOf(rc *rest.Config) (what string, at time.Time) {
	if rc.BearerToken != "" && rc.BearerTokenFile == "" {
		if at = tokenEnd(rc.BearerToken); !at.IsZero() {
			return "token", at
		}
	}
	for data := rc.CertData; ; { // files that a kubeconfig names were read into it
		var block *pem.Block
		if block, data = pem.Decode(data); block == nil {
			return "", time.Time{}
		}
		if cert, err := x509.ParseCertificate(block.Bytes); err == nil {
			return "client certificate", cert.NotAfter
		}
	}
}

// tokenEnd is when a JSON Web Token ends, as it says itself; zero for what is none. Source: RFC 7519, section 4.1.4.
func tokenEnd(token string) time.Time {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return time.Time{}
	}
	text, err := base64.RawURLEncoding.DecodeString(parts[1])
	var claims struct {
		Exp json.Number `json:"exp"`
	}
	if err != nil || json.Unmarshal(text, &claims) != nil {
		return time.Time{}
	}
	seconds, err := claims.Exp.Float64()
	if err != nil || seconds <= 0 || seconds > 1<<40 {
		return time.Time{}
	}
	return time.Unix(int64(seconds), 0)
}
