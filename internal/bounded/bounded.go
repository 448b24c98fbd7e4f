// Package bounded keeps what other machines answer within what is bearable. Start with Transport.
package bounded

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
)

// Transport reads no more of an answer's body than most bytes. Of one that is longer the rest is an error, not its end: a text that is cut off in the
// right place reads as another.
func Transport(of http.RoundTripper, most int64) http.RoundTripper { return transport{of, most} }

// Status is a status as RFC 9110 words it. The server's own words for it have no bound, and may repeat what it was told.
func Status(code int) string {
	if text := http.StatusText(code); text != "" {
		return fmt.Sprint(code, " ", text)
	}
	return fmt.Sprint(code)
}

// Text is a text as far as it is told on.
func Text(text string) string {
	const most = 300 // bytes
	if len(text) > most {
		return strings.ToValidUTF8(text[:most], "") + "…"
	}
	return text
}

// Conn reads no more of a connection than most bytes; more is an error, not its end.
func Conn(of net.Conn, most int64) net.Conn { return conn{of, &body{of, most, most}} }

type conn struct {
	net.Conn
	in *body
}

func (c conn) Read(p []byte) (int, error) { return c.in.Read(p) }

type transport struct {
	http.RoundTripper
	most int64
}

func (t transport) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := t.RoundTripper.RoundTrip(r)
	if err == nil {
		answer.Body = &body{answer.Body, t.most, t.most}
	}
	return answer, err
}

type body struct {
	io.ReadCloser
	left, most int64
}

func (b *body) Read(p []byte) (int, error) {
	if b.left < 0 {
		return 0, fmt.Errorf("the answer has more than %d bytes", b.most)
	}
	if int64(len(p)) > b.left+1 { // one more than may be tells whether there is more
		p = p[:b.left+1]
	}
	n, err := b.ReadCloser.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return n - 1, fmt.Errorf("the answer has more than %d bytes", b.most)
	}
	return n, err
}
