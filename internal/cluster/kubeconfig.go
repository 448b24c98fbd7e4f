package cluster

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/loopback"
)

// Kubeconfigs says which kubeconfigs on the service's machine may be named by those who add clusters: whoever runs the
// service has set it, and nobody who only holds a token of the API can.
type Kubeconfigs struct {
	Dir      string // those in this directory; none when empty
	Commands bool   // they may name commands and files, which the service then runs and reads
}

// maxKubeconfig is how large a kubeconfig may be, in bytes.
const maxKubeconfig = 1 << 20

// read reads a kubeconfig that is named by its path below the directory, or by an absolute path into it. Every refusal for
// where it is says the same, so that nothing is learnt of other files.
func (k Kubeconfigs) read(name string) ([]byte, error) {
	if k.Dir == "" {
		return nil, errors.New("kubeconfigs on the service's machine are not read unless it is started with --kubeconfigs DIR; send what the file holds: vigila cluster add NAME --kubeconfig FILE does")
	}
	refused := fmt.Errorf("there is no kubeconfig %s below %s, the directory of --kubeconfigs", name, k.Dir)
	if filepath.IsAbs(name) {
		var err error
		if name, err = filepath.Rel(k.Dir, name); err != nil {
			return nil, refused
		}
	}
	root, err := os.OpenRoot(k.Dir)
	if err != nil {
		return nil, fmt.Errorf("the directory of --kubeconfigs can't be read: %w", err)
	}
	defer root.Close()
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe is not waited for
	if err != nil {
		return nil, refused
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		return nil, refused
	}
	text, err := io.ReadAll(io.LimitReader(f, maxKubeconfig+1))
	if err != nil {
		return nil, fmt.Errorf("kubeconfig %s: %w", name, err)
	}
	if len(text) > maxKubeconfig {
		return nil, fmt.Errorf("kubeconfig %s is larger than %d bytes", name, maxKubeconfig)
	}
	return text, nil
}

// Contexts lists the contexts of a kubeconfig in the directory.
func (k Kubeconfigs) Contexts(name string) ([]string, error) {
	text, err := k.read(name)
	if err != nil {
		return nil, err
	}
	return Contexts(text)
}

// Contexts lists the contexts of a kubeconfig.
func Contexts(text []byte) ([]string, error) {
	cfg, err := clientcmd.Load(text)
	if err != nil {
		return nil, errors.New("it is no kubeconfig: " + unsaid(err))
	}
	return contextsOf(cfg), nil
}

func contextsOf(cfg *clientcmdapi.Config) []string {
	var names []string
	for n := range cfg.Contexts {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// unsaid is what is wrong with a kubeconfig, without what it holds: parsers quote what they can't read.
func unsaid(err error) string {
	text, _, _ := strings.Cut(err.Error(), "\n")
	if i := strings.IndexAny(text, "\"`'{"); i > 0 {
		text = strings.TrimRight(text[:i], " :")
	}
	return text
}

// restOf reads how a context of a kubeconfig reaches its cluster. Unless commands is set it holds everything itself: it runs
// nothing, and reads no other file. dir is where the files that it names are.
func restOf(text []byte, context, dir string, commands bool) (*rest.Config, error) {
	cfg, err := clientcmd.Load(text)
	if err != nil {
		return nil, errors.New("it is no kubeconfig: " + unsaid(err))
	}
	names := contextsOf(cfg)
	if context != "" && !slices.Contains(names, context) {
		return nil, fmt.Errorf("it has no context %q; it has: %s", context, strings.Join(names, ", "))
	}
	in := cfg.Contexts[cmp.Or(context, cfg.CurrentContext)]
	if in == nil {
		return nil, fmt.Errorf("it says no current context; its contexts are: %s. Choose one with --kube-context", strings.Join(names, ", "))
	}
	user, at := cfg.AuthInfos[in.AuthInfo], cfg.Clusters[in.Cluster]
	if at == nil {
		return nil, fmt.Errorf("its context %s is of cluster %q, which is not in it", cmp.Or(context, cfg.CurrentContext), in.Cluster)
	}
	if user == nil {
		user = &clientcmdapi.AuthInfo{}
	}
	if !commands {
		if err := selfContained(user, at); err != nil {
			return nil, err
		}
	} else {
		for _, file := range []*string{&at.CertificateAuthority, &user.ClientCertificate, &user.ClientKey, &user.TokenFile} {
			if *file != "" && !filepath.IsAbs(*file) {
				*file = filepath.Join(dir, *file)
			}
		}
	}
	rc, err := clientcmd.NewDefaultClientConfig(*cfg, &clientcmd.ConfigOverrides{CurrentContext: context}).ClientConfig()
	if err != nil {
		return nil, errors.New(unsaid(err))
	}
	return rc, nil
}

// selfContained refuses what would run a command of the service's machine, or read a file there.
func selfContained(user *clientcmdapi.AuthInfo, at *clientcmdapi.Cluster) error {
	for what, there := range map[string]bool{
		"users.user.exec":                        user.Exec != nil,
		"users.user.auth-provider":               user.AuthProvider != nil,
		"users.user.tokenFile":                   user.TokenFile != "",
		"users.user.client-certificate":          user.ClientCertificate != "" && len(user.ClientCertificateData) == 0,
		"users.user.client-key":                  user.ClientKey != "" && len(user.ClientKeyData) == 0,
		"clusters.cluster.certificate-authority": at.CertificateAuthority != "" && len(at.CertificateAuthorityData) == 0,
	} {
		if there {
			return fmt.Errorf("its %s names a command or a file, which the service neither runs nor reads; give it a service account's token instead (vigila cluster rbac), or the data itself (kubectl config view --flatten), or let the operator of its machine allow it for files of a directory: vigila serve --kubeconfigs DIR --kubeconfig-commands", what)
		}
	}
	user.ClientCertificate, user.ClientKey, at.CertificateAuthority = "", "", ""
	return nil
}

// secured refuses an address to which credentials would go unencrypted.
func secured(host string) error {
	u, err := url.Parse(host)
	if err != nil || u.Host == "" {
		if u, err = url.Parse("https://" + host); err != nil {
			return errors.New("its address can't be read; write https://HOST:PORT")
		}
	}
	if u.User != nil {
		return errors.New("its address holds a name or a password; credentials are given beside it")
	}
	if u.Scheme == "https" || loopback.Host(u.Hostname()) {
		return nil
	}
	return fmt.Errorf("its address %s://%s is not https: credentials would go over the network as they are", u.Scheme, u.Host)
}

// straight refuses redirects: an API server sends nobody elsewhere, and credentials would go along.
type straight struct{ next http.RoundTripper }

func (s straight) RoundTrip(q *http.Request) (*http.Response, error) {
	r, err := s.next.RoundTrip(q)
	if err == nil && r.StatusCode >= 300 && r.StatusCode < 400 && r.Header.Get("Location") != "" {
		_ = r.Body.Close()
		return nil, fmt.Errorf("the API server answers with a redirect (%s), which is not followed: credentials would go along", bounded.Status(r.StatusCode))
	}
	return r, err
}
