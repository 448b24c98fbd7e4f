package plane

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
)

// Plane is a running control plane with one or more clusters.
type Plane struct {
	Dir      string
	Clusters []*Cluster

	mu       sync.Mutex
	adding   sync.Mutex // one more cluster at a time
	children []*child
	failed   chan error
	flags    []string // of API servers, beside its own
}

// Cluster is one API server with its controllers.
type Cluster struct {
	Name       string
	URL        string
	Kubeconfig string // path; its one context has the cluster's name
	Config     *rest.Config
	Egress     string // the socket where the API server looks for a way to nodes and Pods, by HTTP CONNECT
}

type child struct {
	name  string
	cmd   *exec.Cmd
	stdin io.WriteCloser
	log   *os.File
	done  chan struct{}
}

// ports are kept in the directory, so that a second start answers at the same addresses.
type ports map[string]int

// Start brings up etcd and every cluster, and returns when all API servers are ready. State is kept in dir; flags are more of every API server.
func Start(ctx context.Context, dir string, names []string, flags ...string) (*Plane, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	p := &Plane{Dir: dir, flags: flags, failed: make(chan error, 16)}
	for _, d := range []string{"etcd", "logs", "certs", "kubeconfig"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, err
		}
	}
	if err := p.start(ctx, names); err != nil {
		p.Stop()
		return nil, err
	}
	return p, nil
}

func (p *Plane) start(ctx context.Context, names []string) error {
	at, err := p.ports(names)
	if err != nil {
		return err
	}
	key, err := p.serviceAccountKey()
	if err != nil {
		return err
	}
	token, err := p.token()
	if err != nil {
		return err
	}
	client := loopback(at["etcd"])
	if _, err := p.spawn("etcd", "etcd", filepath.Join(p.Dir, "etcd"), client, loopback(at["etcd-peer"])); err != nil {
		return err
	}
	if err := p.until(ctx, "etcd", func() error { return get(client + "/health") }); err != nil {
		return err
	}
	var wg sync.WaitGroup
	errs := make([]error, len(names))
	p.Clusters = make([]*Cluster, len(names))
	for i, name := range names {
		wg.Go(func() { p.Clusters[i], errs[i] = p.cluster(ctx, name, client, key, token, at) })
	}
	wg.Wait()
	return errors.Join(errs...)
}

// Add brings up one more cluster, and returns when its API server is ready. It answers where it did before, when it was there before.
func (p *Plane) Add(ctx context.Context, name string) (*Cluster, error) {
	p.adding.Lock()
	defer p.adding.Unlock()
	file := filepath.Join(p.Dir, "ports.json")
	at := ports{}
	b, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(b, &at)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for _, n := range []string{name, name + "-controllers"} {
		if at[n], err = FreePort(at[n]); err != nil {
			return nil, err
		}
	}
	if b, err = json.Marshal(at); err == nil {
		err = os.WriteFile(file, b, 0o600)
	}
	if err != nil {
		return nil, err
	}
	key, err := p.serviceAccountKey()
	if err != nil {
		return nil, err
	}
	token, err := p.token()
	if err != nil {
		return nil, err
	}
	c, err := p.cluster(ctx, name, loopback(at["etcd"]), key, token, at)
	if err != nil {
		p.Remove(name)
	}
	return c, err
}

// Remove ends a cluster that was added.
func (p *Plane) Remove(name string) {
	p.mu.Lock()
	var ending []*child
	p.children = slices.DeleteFunc(p.children, func(c *child) bool {
		if c.name == "apiserver-"+name || c.name == "controllers-"+name {
			ending = append(ending, c)
			return true
		}
		return false
	})
	p.mu.Unlock()
	slices.Reverse(ending)
	for _, c := range ending {
		c.end()
	}
}

func (p *Plane) cluster(ctx context.Context, name, etcd, key, token string, at ports) (*Cluster, error) {
	port := at[name]
	c := &Cluster{Name: name, URL: fmt.Sprintf("https://127.0.0.1:%d", port), Kubeconfig: filepath.Join(p.Dir, "kubeconfig", name+".yaml")}
	certs := filepath.Join(p.Dir, "certs", name)
	if err := p.egress(c); err != nil {
		return nil, err
	}
	if _, err := p.spawn("apiserver-"+name, "apiserver", append([]string{
		"--etcd-servers=" + etcd, "--etcd-prefix=/" + name, "--secure-port=" + strconv.Itoa(port), "--bind-address=127.0.0.1", "--cert-dir=" + certs,
		"--service-account-issuer=https://kubernetes.default.svc", "--service-account-key-file=" + key, "--service-account-signing-key-file=" + key,
		"--token-auth-file=" + filepath.Join(p.Dir, "tokens.csv"), "--authorization-mode=RBAC", "--service-cluster-ip-range=10.0.0.0/24",
		"--disable-admission-plugins=ServiceAccount", "--kubelet-preferred-address-types=InternalIP", "--allow-privileged=true",
		"--endpoint-reconciler-type=none", "--profiling=false", "--egress-selector-config-file=" + filepath.Join(p.Dir, name+"-egress.json")}, p.flags...)...); err != nil {
		return nil, err
	}
	ca := filepath.Join(certs, "apiserver.crt") // self-signed: the API server makes it at its first start
	var trusted []byte
	if err := p.until(ctx, "API server of "+name, func() (err error) { trusted, err = certificate(ca); return err }); err != nil {
		return nil, err
	}
	if err := writeKubeconfig(c, trusted, token); err != nil {
		return nil, err
	}
	cfg, err := clientcmd.BuildConfigFromFlags("", c.Kubeconfig)
	if err != nil {
		return nil, err
	}
	cfg.QPS = -1
	c.Config = cfg
	client, err := rest.HTTPClientFor(cfg)
	if err != nil {
		return nil, err
	}
	if err := p.until(ctx, "API server of "+name, func() error {
		r, err := client.Get(c.URL + "/readyz")
		if err != nil {
			return err
		}
		defer r.Body.Close()
		if r.StatusCode != http.StatusOK {
			return fmt.Errorf("readyz answers %s", r.Status)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	_, err = p.spawn("controllers-"+name, "controllers", "--kubeconfig="+c.Kubeconfig, "--service-account-private-key-file="+key, "--use-service-account-credentials=false",
		"--leader-elect=false", "--kube-api-qps=1000", "--kube-api-burst=2000", "--bind-address=127.0.0.1", "--secure-port="+strconv.Itoa(at[name+"-controllers"]), "--cert-dir="+filepath.Join(p.Dir, "certs", name+"-controllers"),
		"--profiling=false")
	return c, err
}

// egress tells the API server of a cluster which way leads to nodes and Pods, whose addresses mean nothing on this machine.
// Source: https://kubernetes.io/docs/reference/config-api/apiserver-config.v1/
func (p *Plane) egress(c *Cluster) error {
	h := fnv.New32a()
	_, _ = io.WriteString(h, p.Dir)
	c.Egress = filepath.Join(os.TempDir(), fmt.Sprintf("vigila-lab-%08x-%s", h.Sum32(), c.Name)) // a socket's path is short
	type m = map[string]any
	b, err := json.Marshal(m{"apiVersion": "apiserver.k8s.io/v1beta1", "kind": "EgressSelectorConfiguration", "egressSelections": []m{{
		"name": "cluster", "connection": m{"proxyProtocol": "HTTPConnect", "transport": m{"uds": m{"udsName": c.Egress}}}}}})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(p.Dir, c.Name+"-egress.json"), b, 0o600)
}

// certificate reads a file of certificates once it is whole: whoever writes it makes it first, and fills it then.
func certificate(file string) ([]byte, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if !x509.NewCertPool().AppendCertsFromPEM(b) || !strings.HasSuffix(strings.TrimSpace(string(b)), "-----END CERTIFICATE-----") {
		return nil, fmt.Errorf("%s is not written yet", file)
	}
	return b, nil
}

func writeKubeconfig(c *Cluster, trusted []byte, token string) error {
	k := clientcmdapi.NewConfig()
	k.Clusters[c.Name] = &clientcmdapi.Cluster{Server: c.URL, CertificateAuthorityData: trusted}
	k.AuthInfos["admin"] = &clientcmdapi.AuthInfo{Token: token}
	k.Contexts[c.Name] = &clientcmdapi.Context{Cluster: c.Name, AuthInfo: "admin"}
	k.CurrentContext = c.Name
	return clientcmd.WriteToFile(*k, c.Kubeconfig)
}

// Failed reports children that ended by themselves.
func (p *Plane) Failed() <-chan error { return p.failed }

// Stop ends every child, the newest first, and waits for them.
func (p *Plane) Stop() {
	p.mu.Lock()
	children := p.children
	p.children = nil
	p.mu.Unlock()
	var wg sync.WaitGroup
	for i := len(children) - 1; i >= 0; i-- {
		c := children[i]
		if c.name == "etcd" {
			wg.Wait() // the others still write to it
		}
		wg.Go(c.end)
	}
	wg.Wait()
}

// end ends a child, and waits for it.
func (c *child) end() {
	_ = c.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-c.done:
	case <-time.After(3 * time.Second):
		_ = c.cmd.Process.Kill()
		<-c.done
	}
	_ = c.stdin.Close()
	_ = c.log.Close()
}

// Pids lists the children by name, for tests that look whether they are gone.
func (p *Plane) Pids() map[string]int {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[string]int{}
	for _, c := range p.children {
		out[c.name] = c.cmd.Process.Pid
	}
	return out
}

// spawn starts this binary again in a role. The child's standard input stays open as long as the parent lives.
func (p *Plane) spawn(name, role string, args ...string) (*child, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	log, err := os.OpenFile(filepath.Join(p.Dir, "logs", name+".log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self, args...)
	cmd.Env = append(os.Environ(), RoleVar+"="+role)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C goes to the parent, which ends them in order
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", name, err)
	}
	c := &child{name: name, cmd: cmd, stdin: stdin, log: log, done: make(chan struct{})}
	p.mu.Lock()
	p.children = append(p.children, c)
	p.mu.Unlock()
	go func() {
		err := cmd.Wait()
		close(c.done)
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, x := range p.children {
			if x == c {
				p.failed <- fmt.Errorf("%s ended (%v); the end of %s: %s", name, err, log.Name(), tail(log.Name()))
			}
		}
	}()
	return c, nil
}

func tail(file string) string {
	b, err := os.ReadFile(file)
	if err != nil {
		return err.Error()
	}
	rows := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(rows[max(0, len(rows)-3):], "\n")
}

// until asks again and again, a minute at most, and gives up at once when a child has ended.
func (p *Plane) until(ctx context.Context, what string, ready func() error) error {
	deadline := time.After(time.Minute)
	for {
		err := ready()
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case failed := <-p.failed:
			return failed
		case <-deadline:
			return fmt.Errorf("%s was not ready within a minute: %w", what, err)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func get(url string) error {
	r, err := http.Get(url) //nolint:gosec // a loopback address of our own child
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answers %s", url, r.Status)
	}
	return nil
}

func loopback(port int) string { return fmt.Sprintf("http://127.0.0.1:%d", port) }

// ports reads the ports of an earlier start, and takes free ones for what is new or taken by someone else.
func (p *Plane) ports(names []string) (ports, error) {
	file := filepath.Join(p.Dir, "ports.json")
	at := ports{}
	if b, err := os.ReadFile(file); err == nil {
		if err := json.Unmarshal(b, &at); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	want := []string{"etcd", "etcd-peer"}
	for _, n := range names {
		want = append(want, n, n+"-controllers")
	}
	for _, n := range want {
		port, err := FreePort(at[n])
		if err != nil {
			return nil, err
		}
		at[n] = port
	}
	b, err := json.Marshal(at)
	if err != nil {
		return nil, err
	}
	return at, os.WriteFile(file, b, 0o600)
}

// Ports are taken from below those that the kernel gives to outgoing connections: between the moment that one is found free
// and the one that the server takes it, a connection of somebody else would take it now and then.
const (
	lowestPort  = 20000
	highestPort = 32000
)

// given are the ports that this process gave out: one is free still for the moment until it is listened on, and is not given twice.
var given = struct {
	sync.Mutex
	ports map[int]bool
}{ports: map[int]bool{}}

// FreePort gives a loopback port: the wanted one when it is free, else any that it has not given yet.
func FreePort(want int) (int, error) {
	given.Lock()
	defer given.Unlock()
	for range 200 {
		if want == 0 {
			want = lowestPort + mathrand.IntN(highestPort-lowestPort)
			if given.ports[want] {
				want = 0
				continue
			}
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", want))
		if err == nil {
			given.ports[want] = true
			return want, l.Close()
		}
		want = 0
	}
	return 0, errors.New("no free loopback port")
}

func (p *Plane) serviceAccountKey() (string, error) {
	file := filepath.Join(p.Dir, "service-account.key")
	if _, err := os.Stat(file); err == nil {
		return file, nil
	}
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return "", err
	}
	block := &pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(key)}
	return file, os.WriteFile(file, pem.EncodeToMemory(block), 0o600)
}

// token makes the admin's token once; every cluster of the lab takes it.
func (p *Plane) token() (string, error) {
	file := filepath.Join(p.Dir, "tokens.csv")
	if b, err := os.ReadFile(file); err == nil {
		token, _, _ := strings.Cut(string(b), ",")
		return token, nil
	}
	raw := make([]byte, 16)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	token := hex.EncodeToString(raw)
	return token, os.WriteFile(file, []byte(token+",admin,admin,\"system:masters\"\n"), 0o600)
}
