package inbox

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/smtp"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/lab/ownca"
)

func post(t *testing.T, url, body string) int {
	t.Helper()
	r, err := http.Post(url, "application/json", strings.NewReader(body))
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	return r.StatusCode
}

func TestWhatComesIn(t *testing.T) {
	dir := t.TempDir()
	s, err := Start(Ports{}, "sesame", dir)
	require.NoError(t, err)
	defer s.Close()
	assert.Equal(t, 200, post(t, s.URL+"/hook/sesame", `{"text": "gale at the quay"}`))
	assert.Equal(t, 400, post(t, s.URL+"/hook/sesame", `{"words": 1}`))
	assert.Equal(t, 404, post(t, s.URL+"/hook/open", `{"text": "x"}`))
	assert.Equal(t, 204, post(t, s.URL+"/events/sesame", `{"specversion":"1.0","id":"1","type":"x","source":"/y"}`))
	assert.Equal(t, 400, post(t, s.URL+"/events/sesame", `{"id":"1"}`))
	for mode, code := range map[string]int{"down": 503, "busy": 429, "refuse": 400, "": 200} {
		s.Mode("chat", mode)
		assert.Equal(t, code, post(t, s.URL+"/hook/sesame", `{"text": "x"}`), mode)
	}
	all := s.Messages()
	require.Len(t, all, 3)
	assert.Equal(t, "gale at the quay", all[0].Text)
	assert.False(t, all[1].Signed, "nobody signed it")

	send := func(user, to string) error {
		pem, err := os.ReadFile(s.CA)
		require.NoError(t, err)
		roots := x509.NewCertPool()
		roots.AppendCertsFromPEM(pem)
		c, err := smtp.Dial(s.Mail)
		if err != nil {
			return err
		}
		defer func() { _ = c.Close() }()
		if err := c.StartTLS(&tls.Config{RootCAs: roots, ServerName: "127.0.0.1", MinVersion: tls.VersionTLS12}); err != nil {
			return err
		}
		host, _, err := net.SplitHostPort(s.Mail)
		require.NoError(t, err)
		if err := c.Auth(smtp.PlainAuth("", user, "sesame", host)); err != nil {
			return err
		}
		require.NoError(t, c.Mail("vigila@brindle.example"))
		if err := c.Rcpt(to); err != nil {
			return err
		}
		w, err := c.Data()
		require.NoError(t, err)
		_, err = w.Write([]byte("Subject: =?utf-8?q?gale_=E2=80=93_quay?=\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nover=20now\r\n"))
		require.NoError(t, err)
		return w.Close()
	}
	require.NoError(t, send(User, "ops@brindle.example"))
	assert.ErrorContains(t, send("somebody", "ops@brindle.example"), "535")
	assert.ErrorContains(t, send(User, "nobody@brindle.example"), "550")
	s.Mode("mail", "busy")
	assert.ErrorContains(t, send(User, "ops@brindle.example"), "451")
	s.Mode("mail", "down")
	assert.ErrorContains(t, send(User, "ops@brindle.example"), "421")
	all = s.Messages()
	require.Len(t, all, 4)
	assert.Equal(t, "gale – quay", all[3].Subject)
	assert.Equal(t, "over now\n", all[3].Text)
	assert.Equal(t, []string{"ops@brindle.example"}, all[3].To)
	ca, err := os.ReadFile(s.CA)
	require.NoError(t, err)
	_, err = ownca.Certificate(s.CA, "inbox")
	require.NoError(t, err)
	again, err := os.ReadFile(s.CA)
	require.NoError(t, err)
	assert.Equal(t, string(ca), string(again), "others know it already")
}
