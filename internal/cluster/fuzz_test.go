package cluster

import (
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

// FuzzKubeconfig: whatever a kubeconfig says, it names no file and no command that is taken, and nothing panics.
func FuzzKubeconfig(f *testing.F) {
	for _, text := range []string{kubeconfig("https://127.0.0.1:1", "", "token: t"), kubeconfig("http://127.0.0.1:1", ", proxy-url: 'socks5://x'", "username: u, password: p"), kubeconfig("https://127.0.0.1:1", ", tls-server-name: x, insecure-skip-tls-verify: true", "as: root"),
		kubeconfig("https://127.0.0.1:1", ", certificate-authority-data: AAAA", "client-certificate-data: AAAA, client-key-data: AAAA"), kubeconfig("unix:///x", "", "tokenFile: /etc/hostname"), kubeconfig("https://x", "", "exec: {command: touch, args: [ran]}"), "{}", "a: &a [*a]", "\x00"} {
		f.Add(text, "a")
	}
	dir := f.TempDir()
	ran := filepath.Join(dir, "ran")
	f.Fuzz(func(t *testing.T, text, context string) {
		c, err := Connect(Config{Name: "quay", Text: text, Context: context}, slog.New(slog.NewTextHandler(io.Discard, nil)))
		if err == nil {
			c.Close()
			rest, err := restOf([]byte(text), context, "", false)
			if assert.NoError(t, err) {
				assert.Empty(t, rest.BearerTokenFile)
				assert.Empty(t, rest.CAFile+rest.CertFile+rest.KeyFile)
				assert.Nil(t, rest.ExecProvider)
				assert.Nil(t, rest.AuthProvider)
			}
		}
		_, _ = Contexts([]byte(text))
		_, err = os.Stat(ran)
		assert.True(t, errors.Is(err, os.ErrNotExist))
	})
}
