package e2e

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	authv1 "k8s.io/api/authentication/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
)

// TestAKubeconfigOfOnesOwn: where the API server takes a provider's people, whoever has signed in by it gets a kubeconfig that signs them in
// there as themselves, with their own rights, and holds nothing that is Vigila's or secret.
func TestAKubeconfigOfOnesOwn(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "lab")
	up := exec.Command(filepath.Join(bin, "vigila-lab"), "up", "--dir", dir, "--clusters", "pier", "--provider-secret", providerSecret, "--people-at-clusters")
	up.Stdout, up.Stderr = os.Stderr, os.Stderr
	require.NoError(t, up.Start())
	t.Cleanup(func() {
		_ = up.Process.Signal(syscall.SIGTERM)
		_ = up.Wait()
	})
	var state struct {
		Provider   string            `json:"provider"`
		ProviderCA string            `json:"provider_ca"`
		Clusters   map[string]string `json:"clusters"`
	}
	for end := time.Now().Add(2 * patience); state.Provider == ""; time.Sleep(100 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the lab does not come up")
		if b, err := os.ReadFile(filepath.Join(dir, "lab.json")); err == nil {
			_ = json.Unmarshal(b, &state) // it is written whole
		}
	}
	ca, err := os.ReadFile(state.ProviderCA)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(ca))
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	web := &http.Client{Jar: jar, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}, Timeout: patience}
	// signIn goes through the provider's page as somebody, and back to wherever that leads.
	signIn := func(link, who string) string {
		r, err := web.Get(link)
		require.NoError(t, err)
		page, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		_ = r.Body.Close()
		id := regexp.MustCompile(`name="id" value="([^"]+)"`).FindStringSubmatch(string(page))
		require.NotNil(t, id, "%s", page)
		r, err = web.PostForm(r.Request.URL.String(), url.Values{"id": {id[1]}, "who": {who}})
		require.NoError(t, err)
		page, err = io.ReadAll(r.Body)
		require.NoError(t, err)
		_ = r.Body.Close()
		return string(page)
	}

	s := newService(t)
	s.ok("cluster", "add", "pier", "--kubeconfig", state.Clusters["pier"])
	s.ok("provider", "add", "brindle", state.Provider, "--client", "vigila", "--secret-file", s.file("secret", providerSecret), "--ca-file", state.ProviderCA, "--reader", "group:harbour-ops")
	s.fails(1, "nobody has said that the API server of cluster pier takes people", "cluster", "kubeconfig", "pier")
	s.fails(1, "there is no provider", "cluster", "sign-in", "pier", "--provider", "brindel", "--client", "kubernetes")
	s.ok("cluster", "sign-in", "pier", "--provider", "brindle", "--client", "kubernetes")
	s.ok("cluster", "add", "pier", "--label", "tier=rehearsal") // which leaves that as it is
	s.fails(1, "has not signed in by it", "cluster", "kubeconfig", "pier")

	page := signIn(s.url+"/sign-in/start?provider=brindle&to=/", "operator")
	assert.Contains(t, page, "Vigila")
	r, err := web.Get(s.url + "/api/v1/clusters/pier/kubeconfig")
	require.NoError(t, err)
	defer r.Body.Close()
	var own struct {
		Kubeconfig string `json:"own_kubeconfig"`
	}
	require.NoError(t, json.NewDecoder(r.Body).Decode(&own))
	admins, err := os.ReadFile(state.Clusters["pier"])
	require.NoError(t, err)
	token := regexp.MustCompile(`token: (\S+)`).FindSubmatch(admins)
	require.NotNil(t, token)
	assert.NotContains(t, own.Kubeconfig, string(token[1]), "nothing of Vigila's")
	assert.NotContains(t, own.Kubeconfig, providerSecret)

	file := filepath.Join(t.TempDir(), "pier.yaml")
	require.NoError(t, os.WriteFile(file, []byte(own.Kubeconfig), 0o600))
	cfg, err := clientcmd.BuildConfigFromFlags("", file)
	require.NoError(t, err)
	require.NotNil(t, cfg.ExecProvider)
	cfg.ExecProvider.Command = filepath.Join(bin, "vigila")
	cache := t.TempDir()
	ctx, cancel := context.WithTimeout(t.Context(), 2*patience)
	defer cancel()
	in := exec.CommandContext(ctx, cfg.ExecProvider.Command, cfg.ExecProvider.Args...)
	in.Env = append(os.Environ(), "XDG_CACHE_HOME="+cache)
	told, err := in.StderrPipe()
	require.NoError(t, err)
	var printed strings.Builder
	in.Stdout = &printed
	require.NoError(t, in.Start())
	text := ""
	for buf := make([]byte, 4096); !strings.Contains(text, "code_challenge"); {
		n, err := told.Read(buf)
		require.NoError(t, err, "%s", text)
		text += string(buf[:n])
	}
	link := regexp.MustCompile(`https://\S+`).FindString(text)
	at, err := url.Parse(link)
	require.NoError(t, err)
	back := at.Query().Get("redirect_uri")
	wrong, err := web.Get(back + "?code=x&state=guessed")
	require.NoError(t, err)
	_ = wrong.Body.Close()
	assert.Equal(t, http.StatusNotFound, wrong.StatusCode, "an answer to another sign-in is none")
	assert.Contains(t, signIn(link, "operator"), "knows who you are")
	require.NoError(t, in.Wait())
	assert.Contains(t, printed.String(), `"kind":"ExecCredential"`)

	cfg.ExecProvider.Env = []clientcmdapi.ExecEnvVar{{Name: "XDG_CACHE_HOME", Value: cache}}
	k, err := kubernetes.NewForConfig(cfg)
	require.NoError(t, err)
	me, err := k.AuthenticationV1().SelfSubjectReviews().Create(ctx, &authv1.SelfSubjectReview{}, metav1.CreateOptions{})
	require.NoError(t, err)
	assert.Equal(t, "brindle:operator@brindle.example", me.Status.UserInfo.Username)
	assert.Contains(t, me.Status.UserInfo.Groups, "brindle:harbour-ops")
	_, err = k.CoreV1().Pods("default").List(ctx, metav1.ListOptions{})
	assert.ErrorContains(t, err, "forbidden", "with their own rights, and they have none there yet")
	left, err := filepath.Glob(filepath.Join(cache, "vigila", "*"))
	require.NoError(t, err)
	require.Len(t, left, 1)
	st, err := os.Stat(left[0])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
}
