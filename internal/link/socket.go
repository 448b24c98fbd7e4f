package link

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/coder/websocket"

	"vigila.dev/vigila/internal/bounded"
)

// Path is where a service takes the connections of lookouts, below its address.
const Path = "/lookout"

// message is how large a message of the WebSocket may be. A TLS record, which one holds, has 16 KiB.
const message = 64 << 10

// Dial opens a WebSocket to a service, through the proxy that the environment names (HTTPS_PROXY, NO_PROXY). ca is PEM of an authority of one's
// own; "" for the system's.
func Dial(ctx context.Context, service string, ca []byte) (net.Conn, error) {
	return DialAt(ctx, service, Path, ca)
}

// DialAt is Dial for another path than that of lookouts.
func DialAt(ctx context.Context, service, path string, ca []byte) (net.Conn, error) {
	at, err := address(service, path)
	if err != nil {
		return nil, err
	}
	transport := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: 15 * time.Second, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
		DialContext: (&net.Dialer{Timeout: 15 * time.Second, KeepAlive: 30 * time.Second}).DialContext}
	if len(ca) > 0 {
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(ca) {
			return nil, errors.New("the file of authorities holds no certificate in PEM")
		}
		transport.TLSClientConfig.RootCAs = pool
	}
	c, res, err := websocket.Dial(ctx, at, &websocket.DialOptions{Subprotocols: []string{Protocol}, CompressionMode: websocket.CompressionDisabled, // what goes through is encrypted already
		HTTPClient: &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}})
	if res != nil && res.StatusCode != http.StatusSwitchingProtocols {
		return nil, fmt.Errorf("%s answers %s where a WebSocket is expected; is this the address of Vigila, and does each proxy before it let WebSockets pass?", service, bounded.Status(res.StatusCode))
	}
	if err != nil {
		return nil, err
	}
	return netOf(ctx, c), nil
}

// Address is where a lookout calls the service at an address.
func Address(service string) (string, error) { return address(service, Path) }

func address(service, path string) (string, error) {
	u, err := url.Parse(service)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return "", fmt.Errorf("%q is no address of a service; write https://vigila.example.org", service)
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return "", fmt.Errorf("the address of the service holds more than host, port and path; write it without")
	}
	u.Scheme = map[string]string{"https": "wss", "http": "ws"}[u.Scheme]
	u.Path = strings.TrimSuffix(u.Path, "/") + path
	return u.String(), nil
}

// Accept takes a WebSocket of a lookout.
func Accept(w http.ResponseWriter, r *http.Request) (net.Conn, error) {
	c, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{Protocol}, CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return nil, err
	}
	if c.Subprotocol() != Protocol {
		_ = c.Close(websocket.StatusPolicyViolation, "the subprotocol is "+Protocol)
		return nil, errors.New("it does not speak " + Protocol)
	}
	return netOf(context.WithoutCancel(r.Context()), c), nil
}

// netOf is a WebSocket as a connection of bytes. ctx ends the opening alone.
func netOf(ctx context.Context, c *websocket.Conn) net.Conn {
	c.SetReadLimit(message)
	return websocket.NetConn(context.WithoutCancel(ctx), c, websocket.MessageBinary)
}
