package main

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/loopback"
)

// overTheNetwork refuses to serve other machines in the clear unless whoever runs the service says that it is so.
func (s settings) overTheNetwork() error {
	if (s.TLSCert == "") != (s.TLSKey == "") {
		return errors.New("tls_cert and tls_key go together")
	}
	for _, name := range listed(s.TrustedProxies) {
		if _, _, err := net.ParseCIDR(name); err != nil && net.ParseIP(name) == nil {
			return fmt.Errorf("trusted_proxies: %q is neither an address nor a network such as 10.0.0.0/8", name)
		}
	}
	if s.TLSCert != "" || s.PlainHTTP {
		return nil
	}
	host, _, err := net.SplitHostPort(s.Listen)
	if err != nil {
		return fmt.Errorf("listen is %q; write an address with a port, such as 127.0.0.1:7740", s.Listen)
	}
	if loopback.Host(host) {
		return nil
	}
	return fmt.Errorf("listen is %q, which other machines reach: tokens would go over the network as they are. Give --tls-cert and --tls-key, or say --plain-http when something in front of it speaks HTTPS", s.Listen)
}

// listed splits a list at its commas.
func listed(s string) (out []string) {
	for _, x := range strings.Split(s, ",") {
		if x = strings.TrimSpace(x); x != "" {
			out = append(out, x)
		}
	}
	return out
}

// certificate is a certificate with its key in files, which are read anew when one of them changes; while the new ones
// can't be used, the old ones are.
type certificate struct {
	cert, key string
	log       *slog.Logger

	mu   sync.Mutex
	last *tls.Certificate
	of   [2]time.Time // when the files were changed that last is from
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var of [2]time.Time
	for i, file := range []string{c.cert, c.key} {
		if st, err := os.Stat(file); err == nil {
			of[i] = st.ModTime()
		}
	}
	if c.last != nil && of == c.of {
		return c.last, nil
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		if c.last != nil {
			c.log.Error("the new certificate can't be used; the last one still is", "error", err)
			c.of = of // said once
			return c.last, nil
		}
		return nil, fmt.Errorf("the certificate can't be used: %w", err)
	}
	c.last, c.of = &pair, of
	return c.last, nil
}
