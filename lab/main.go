// Command vigila-lab runs real Kubernetes control planes and small stand-ins on loopback, for the demo and the
// tests: nodes that play Pods, a git server, and another client of the cluster.
package main

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"k8s.io/client-go/tools/clientcmd"

	"vigila.dev/lab/codehost"
	"vigila.dev/lab/edit"
	"vigila.dev/lab/faults"
	"vigila.dev/lab/gateway"
	"vigila.dev/lab/gitserve"
	"vigila.dev/lab/hostile"
	"vigila.dev/lab/inbox"
	"vigila.dev/lab/kv"
	"vigila.dev/lab/metrics"
	"vigila.dev/lab/nodes"
	"vigila.dev/lab/ownca"
	"vigila.dev/lab/plane"
	"vigila.dev/lab/provider"
	"vigila.dev/lab/registry"
	"vigila.dev/lab/slipway"
	"vigila.dev/lab/soak"
	"vigila.dev/lab/traffic"
)

// State is written to lab.json in the lab's directory once everything is ready, for scripts and tests.
type State struct {
	Pid        int               `json:"pid"`
	Clusters   map[string]string `json:"clusters"` // name to kubeconfig
	Git        string            `json:"git"`      // address of the git server
	Children   map[string]int    `json:"children"`
	Gateways   map[string]string `json:"gateways,omitempty"`    // cluster to the address of its gateway
	Metrics    string            `json:"metrics,omitempty"`     // address of the metrics server
	Registry   string            `json:"registry,omitempty"`    // host and port of the registry
	Host       string            `json:"host,omitempty"`        // address of the code host
	KV         string            `json:"kv,omitempty"`          // address of the server of secret values
	Provider   string            `json:"provider,omitempty"`    // issuer by which people sign in
	ProviderCA string            `json:"provider_ca,omitempty"` // file of certificates to trust it by, where it speaks TLS
	Inbox      string            `json:"inbox,omitempty"`       // page of what came in: chat, mail and events
	Mail       string            `json:"mail,omitempty"`        // host and port of the mail server
	MailCA     string            `json:"mail_ca,omitempty"`     // file of the certificate that signs the mail server's
}

func main() {
	plane.Role()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{Use: "vigila-lab", Short: "Real control planes and stand-ins on this machine", SilenceUsage: true, SilenceErrors: true}
	root.AddCommand(up(), down(), gitCommand(), editCommand(), commitCommand(), imageCommand(), hostileCommand(), proxyCommand(), soakCommand(), trafficCommand())
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "vigila-lab:", err)
		os.Exit(1)
	}
}

func up() *cobra.Command {
	var dir, catalogueFile, seed, user, password string
	var clusters, empty []string
	var withGateway, withRegistry, peopleAtClusters bool
	var hostToken, kvToken, inboxToken, providerSecret string
	var prometheus, manages string
	c := &cobra.Command{
		Use: "up", Short: "Start the lab and stay up until Ctrl-C or vigila-lab down",
		Example: "  vigila-lab up --dir .demo/lab --clusters quay,skerry --catalogue lab/demo/images.yaml --seed lab/demo/moorings",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, cancel := context.WithCancel(c.Context())
			defer cancel()
			began := time.Now()
			var catalogue *nodes.Catalogue
			var err error
			if catalogueFile != "" {
				if catalogue, err = nodes.Load(catalogueFile); err != nil {
					return err
				}
			}
			if pid := running(dir); pid != 0 {
				return fmt.Errorf("a lab is up in %s already (process %d); end it with vigila-lab down --dir %s", dir, pid, dir)
			}
			var state State
			var flags []string
			var own *tls.Certificate
			if peopleAtClusters {
				if providerSecret == "" {
					return errors.New("--people-at-clusters needs a provider: --provider-secret SECRET")
				}
				if err := os.MkdirAll(dir, 0o700); err != nil {
					return err
				}
				if dir, err = filepath.Abs(dir); err != nil {
					return err
				}
				port, err := keptPort(dir, "provider")
				if err != nil {
					return err
				}
				file := filepath.Join(dir, "provider-ca.pem")
				cert, err := ownca.Certificate(file, "provider")
				if err != nil {
					return err
				}
				own = &cert
				flags = []string{fmt.Sprintf("--oidc-issuer-url=https://127.0.0.1:%d", port), "--oidc-client-id=" + provider.Clusters, "--oidc-ca-file=" + file,
					"--oidc-username-claim=email", "--oidc-username-prefix=brindle:", "--oidc-groups-claim=groups", "--oidc-groups-prefix=brindle:"}
				s, err := provider.Start(port, providerSecret, own)
				if err != nil {
					return err
				}
				defer s.Close()
				state.Provider, state.ProviderCA = s.URL, file
			}
			p, err := plane.Start(ctx, dir, clusters, flags...)
			if err != nil {
				return err
			}
			defer p.Stop()
			defer os.Remove(filepath.Join(dir, "lab.json"))
			state.Pid, state.Clusters, state.Gateways, state.Children = os.Getpid(), map[string]string{}, map[string]string{}, p.Pids()
			targets := map[string]string{}
			for _, cl := range p.Clusters {
				f, err := nodes.Start(ctx, cl.Config, catalogue, 3)
				if err != nil {
					return fmt.Errorf("nodes of %s: %w", cl.Name, err)
				}
				defer f.Close()
				if err := f.Egress(cl.Egress); err != nil {
					return err
				}
				state.Clusters[cl.Name] = cl.Kubeconfig
				targets[cl.Name] = f.Targets()
				if withGateway {
					g, err := gateway.Start(ctx, cl.Config, f.At)
					if err != nil {
						return fmt.Errorf("gateway of %s: %w", cl.Name, err)
					}
					defer g.Close()
					state.Gateways[cl.Name] = g.URL
				}
			}
			if manages != "" {
				i := slices.IndexFunc(p.Clusters, func(c *plane.Cluster) bool { return c.Name == manages })
				if i < 0 {
					return fmt.Errorf("--slipway is %q, and the clusters are %s", manages, strings.Join(clusters, ", "))
				}
				f, err := slipway.Start(ctx, p.Clusters[i].Config, &slipPlane{plane: p, images: catalogue, up: map[string]func(){}})
				if err != nil {
					return fmt.Errorf("slipway of %s: %w", manages, err)
				}
				defer f.Close()
			}
			if prometheus != "" {
				m, err := metrics.Start(ctx, prometheus, dir, targets)
				if err != nil {
					return fmt.Errorf("metrics: %w", err)
				}
				defer m.Close()
				state.Metrics = m.URL
			}
			port, err := keptPort(dir, "git")
			if err != nil {
				return err
			}
			g, err := gitserve.Start(filepath.Join(dir, "git"), port, user, password)
			if err != nil {
				return err
			}
			defer g.Close()
			if withRegistry {
				port, err := keptPort(dir, "registry")
				if err != nil {
					return err
				}
				r, err := registry.Start(port)
				if err != nil {
					return err
				}
				defer r.Close()
				state.Registry = r.Host
			}
			if hostToken != "" {
				port, err := keptPort(dir, "host")
				if err != nil {
					return err
				}
				h, err := codehost.Start(filepath.Join(dir, "git"), port, hostToken)
				if err != nil {
					return err
				}
				defer h.Close()
				state.Host = h.URL
			}
			if kvToken != "" {
				port, err := keptPort(dir, "kv")
				if err != nil {
					return err
				}
				s, err := kv.Start(port, kvToken, filepath.Join(dir, "kv.json"))
				if err != nil {
					return err
				}
				defer s.Close()
				state.KV = s.URL
			}
			if inboxToken != "" {
				pages, err := keptPort(dir, "inbox")
				if err != nil {
					return err
				}
				mails, err := keptPort(dir, "mail")
				if err != nil {
					return err
				}
				s, err := inbox.Start(inbox.Ports{HTTP: pages, Mail: mails}, inboxToken, dir)
				if err != nil {
					return err
				}
				defer s.Close()
				state.Inbox, state.Mail, state.MailCA = s.URL, s.Mail, s.CA
			}
			if providerSecret != "" && !peopleAtClusters {
				port, err := keptPort(dir, "provider")
				if err != nil {
					return err
				}
				s, err := provider.Start(port, providerSecret, nil)
				if err != nil {
					return err
				}
				defer s.Close()
				state.Provider = s.URL
			}
			state.Git = strings.TrimSuffix(g.URL(""), "/.git")
			if seed != "" {
				if err := g.Seed(filepath.Base(seed), seed, time.Now().Add(-12*time.Hour)); err != nil {
					return err
				}
			}
			for _, name := range empty {
				if err := g.Create(name); err != nil {
					return err
				}
			}
			b, err := json.MarshalIndent(state, "", "  ")
			if err != nil {
				return err
			}
			tmp := filepath.Join(dir, ".lab.json")
			if err := os.WriteFile(tmp, b, 0o600); err != nil {
				return err
			}
			if err := os.Rename(tmp, filepath.Join(dir, "lab.json")); err != nil {
				return err
			}
			fmt.Printf("The lab is ready after %.1f s: %s, git at %s\n", time.Since(began).Seconds(), strings.Join(clusters, ", "), state.Git)
			defer cancel() // before the nodes are waited for
			select {
			case <-ctx.Done():
				return nil
			case err := <-p.Failed():
				return err
			}
		},
	}
	f := c.Flags()
	f.StringVar(&dir, "dir", "", "directory of the lab's state")
	f.StringSliceVar(&clusters, "clusters", []string{"quay"}, "names of the clusters")
	f.StringVar(&catalogueFile, "catalogue", "", "how images behave")
	f.StringVar(&seed, "seed", "", "directory of commits for a repository of the same name")
	f.StringSliceVar(&empty, "empty-repos", nil, "empty repositories to make")
	f.StringVar(&manages, "slipway", "", "the cluster that Clusters of the Cluster API are made in: each becomes one more API server of the lab")
	f.BoolVar(&withGateway, "gateway", false, "run a gateway for each cluster: HTTPRoutes lead real requests on loopback to its Pods")
	f.StringVar(&hostToken, "host-token", "", "run a code host over the git repositories; its API asks for this token")
	f.StringVar(&kvToken, "kv-token", "", "run a server of secret values that speaks KV version 2; this token is good for ever")
	f.StringVar(&inboxToken, "inbox-token", "", "run a chat, a mail server and an address for events, with a page of what came in; this token is in their addresses, and the mail server's password")
	f.StringVar(&providerSecret, "provider-secret", "", "run a sign-in provider (OpenID Connect) with the people of the demo; this is the secret of its client vigila")
	f.BoolVar(&peopleAtClusters, "people-at-clusters", false, "the provider speaks TLS, and every API server takes its people, for the client kubernetes")
	f.BoolVar(&withRegistry, "registry", false, "run a registry of images, which holds them in memory")
	f.StringVar(&prometheus, "prometheus", "", "run this program, Prometheus, to ask the Pods for metrics")
	f.StringVar(&user, "git-user", "", "ask for this user name at the git server")
	f.StringVar(&password, "git-password", "", "and this password")
	_ = c.MarkFlagRequired("dir")
	return c
}

// slipPlane starts the clusters of a slipway, each with its nodes.
type slipPlane struct {
	plane  *plane.Plane
	images *nodes.Catalogue
	up     map[string]func()
}

// Begin is of slipway.Plane.
func (f *slipPlane) Begin(ctx context.Context, name string, count int) (string, error) {
	c, err := f.plane.Add(ctx, name)
	if err != nil {
		return "", err
	}
	own, cancel := context.WithCancel(ctx)
	yard, err := nodes.Start(own, c.Config, f.images, count)
	if err == nil {
		err = yard.Egress(c.Egress)
	}
	f.up[name] = func() {
		cancel()
		if yard != nil {
			yard.Close()
		}
		f.plane.Remove(name)
	}
	if err != nil {
		f.End(name)
		return "", err
	}
	return c.Kubeconfig, nil
}

// End is of slipway.Plane.
func (f *slipPlane) End(name string) {
	if end := f.up[name]; end != nil {
		end()
		delete(f.up, name)
	}
}

// keptPort keeps a server at the port of an earlier start.
func keptPort(dir, of string) (int, error) {
	file := filepath.Join(dir, of+".port")
	want := 0
	if b, err := os.ReadFile(file); err == nil {
		want, _ = strconv.Atoi(strings.TrimSpace(string(b)))
	}
	port, err := plane.FreePort(want)
	if err != nil {
		return 0, err
	}
	return port, os.WriteFile(file, []byte(strconv.Itoa(port)), 0o600)
}

func readState(dir string) (State, error) {
	var s State
	b, err := os.ReadFile(filepath.Join(dir, "lab.json"))
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(b, &s)
}

// running is the process of a lab that is up in a directory, 0 when there is none.
func running(dir string) int {
	s, err := readState(dir)
	if err != nil || syscall.Kill(s.Pid, 0) != nil {
		return 0
	}
	return s.Pid
}

func down() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use: "down", Short: "End a lab, and every process it started", Example: "  vigila-lab down --dir .demo/lab", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if running(dir) == 0 {
				fmt.Println("No lab is up in", dir)
				return nil
			}
			s, err := readState(dir)
			if err != nil {
				return err
			}
			if err := syscall.Kill(s.Pid, syscall.SIGTERM); err != nil {
				return err
			}
			for range 300 {
				left := running(dir) != 0 // the file goes when the lab ends; the process itself may wait for its parent
				for _, pid := range s.Children {
					left = left || syscall.Kill(pid, 0) == nil
				}
				if !left {
					return nil
				}
				time.Sleep(100 * time.Millisecond)
			}
			return errors.New("the lab did not end within 30 s")
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "directory of the lab's state")
	_ = c.MarkFlagRequired("dir")
	return c
}

func gitCommand() *cobra.Command {
	var dir, user, password string
	var port int
	var empty []string
	c := &cobra.Command{
		Use: "git", Short: "Serve git repositories alone, until Ctrl-C; prints the address", Example: "  vigila-lab git --dir /tmp/git --empty-repos moorings --git-user vigila --git-password open", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			g, err := gitserve.Start(dir, port, user, password)
			if err != nil {
				return err
			}
			defer g.Close()
			for _, name := range empty {
				if err := g.Create(name); err != nil {
					return err
				}
			}
			fmt.Println(strings.TrimSuffix(g.URL(""), "/.git"))
			<-c.Context().Done()
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&dir, "dir", "", "directory of the repositories")
	f.IntVar(&port, "port", 0, "loopback port; 0 takes a free one")
	f.StringSliceVar(&empty, "empty-repos", nil, "empty repositories to make")
	f.StringVar(&user, "git-user", "", "ask for this user name")
	f.StringVar(&password, "git-password", "", "and this password")
	_ = c.MarkFlagRequired("dir")
	return c
}

func editCommand() *cobra.Command {
	var kubeconfig, as, namespace, subresource string
	var remove bool
	c := &cobra.Command{
		Use: "edit KIND/NAME [PATH=VALUE…]", Short: "Change a live object under a field manager of your choice, or --delete it",
		Example: "  vigila-lab edit deployment/berth-planner spec.replicas=5 --kubeconfig .demo/lab/kubeconfig/quay.yaml -n berth-planner --as kubectl-scale",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig)
			if err != nil {
				return err
			}
			if remove {
				return edit.Delete(c.Context(), cfg, namespace, args[0])
			}
			values := map[string]string{}
			for _, a := range args[1:] {
				path, v, ok := strings.Cut(a, "=")
				if !ok {
					return fmt.Errorf("%q is not PATH=VALUE", a)
				}
				values[path] = v
			}
			return edit.Set(c.Context(), cfg, namespace, args[0], as, subresource, values)
		},
	}
	f := c.Flags()
	f.StringVar(&kubeconfig, "kubeconfig", os.Getenv("KUBECONFIG"), "kubeconfig")
	f.StringVar(&as, "as", "engineer-in-a-hurry", "field manager")
	f.StringVar(&subresource, "subresource", "", "status or scale, instead of the object itself")
	f.StringVarP(&namespace, "namespace", "n", "default", "namespace")
	f.BoolVar(&remove, "delete", false, "delete the object")
	return c
}

func proxyCommand() *cobra.Command {
	var kubeconfig, out, control string
	var seed uint64
	c := &cobra.Command{
		Use: "proxy", Short: "Stand before an API server and make faults on demand, until Ctrl-C; prints the address of the control",
		Long: `Stand before an API server and make faults on demand. POST /KIND to the control makes a fault of that kind for every
request from then on: ` + strings.Join(faults.Kinds, ", ") + `; ?share=0.3 only for some, ?delay=2s for slow.
POST /cut drops every connection once.`,
		Example: "  vigila-lab proxy --kubeconfig .demo/lab/kubeconfig/quay.yaml --write through.yaml\n  curl -X POST http://127.0.0.1:4100/busy?share=0.5", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig)
			if err != nil {
				return err
			}
			p, err := faults.Start(cfg, seed)
			if err != nil {
				return err
			}
			defer p.Close()
			if err := p.Kubeconfig(out, "through"); err != nil {
				return err
			}
			l, err := net.Listen("tcp", control)
			if err != nil {
				return err
			}
			h := &http.Server{Handler: p.Control(), ReadHeaderTimeout: 10 * time.Second}
			go func() { _ = h.Serve(l) }()
			defer h.Close()
			fmt.Println("http://" + l.Addr().String())
			<-c.Context().Done()
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&kubeconfig, "kubeconfig", os.Getenv("KUBECONFIG"), "kubeconfig of the API server")
	f.StringVar(&out, "write", "", "where to write a kubeconfig that leads through the proxy")
	f.StringVar(&control, "control", "127.0.0.1:0", "loopback address of the control")
	f.Uint64Var(&seed, "seed", 1, "of the choices among requests")
	_ = c.MarkFlagRequired("write")
	return c
}

func soakCommand() *cobra.Command {
	o := soak.Options{Out: os.Stdout}
	var minutes float64
	c := &cobra.Command{
		Use: "soak", Short: "Play random faults against a running Vigila, and check every claim it makes",
		Long: `Play random faults against a running Vigila with many wards: commits, edits by hand, kills, and an API server that is
away, silent, slow, busy, forgetful or breaks off. A checker that shares no code with Vigila compares the repository,
the cluster and what the API claims all the time; the first false claim ends it with exit code 1. A seed plays the same
faults again.`,
		Example: "  vigila-lab soak --minutes 10\n  vigila-lab soak --minutes 10 --seed 4711", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			o.Duration = time.Duration(minutes * float64(time.Minute))
			if o.Seed == 0 {
				o.Seed = rand.Uint64N(1 << 32)
			}
			dir, err := os.MkdirTemp("", "vigila-soak-")
			if err != nil {
				return err
			}
			o.Dir = filepath.Join(dir, "soak")
			if err := soak.Run(c.Context(), o); err != nil {
				return fmt.Errorf("%w\nplay it again: vigila-lab soak --minutes %g --seed %d; what it left is in %s", err, minutes, o.Seed, dir)
			}
			return os.RemoveAll(dir)
		},
	}
	f := c.Flags()
	f.Float64Var(&minutes, "minutes", 10, "how long faults are played")
	f.Uint64Var(&o.Seed, "seed", 0, "of all that happens; a new one when 0")
	f.IntVar(&o.Wards, "wards", 12, "how many wards")
	f.BoolVar(&o.Rewinds, "rewinds", true, "put the cluster's data back now and then, as a restored backup does")
	f.BoolVar(&o.Lookout, "lookout", false, "let a lookout keep the cluster: it, the service and the wire between them fail")
	f.BoolVar(&o.Hostile, "hostile", true, "keep wards from a repository of bombs and endless things beside the others")
	f.StringVar(&o.Vigila, "vigila", "bin/vigila", "the binary under test")
	return c
}

func trafficCommand() *cobra.Command {
	var host string
	var rate int
	var lasts time.Duration
	c := &cobra.Command{
		Use: "traffic URL", Short: "Send requests to a loopback address at a steady rate until Ctrl-C; prints what came back, as JSON",
		Example: "  vigila-lab traffic http://127.0.0.1:4200 --host fares.brindle.example --rate 20", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			ctx, cancel := context.WithTimeout(c.Context(), lasts)
			defer cancel()
			n, err := traffic.Send(ctx, args[0], host, rate)
			if err != nil {
				return err
			}
			return json.NewEncoder(os.Stdout).Encode(n)
		},
	}
	c.Flags().StringVar(&host, "host", "", "the host that is asked for")
	c.Flags().IntVar(&rate, "rate", 20, "requests a second")
	c.Flags().DurationVar(&lasts, "for", 24*time.Hour, "at most so long")
	return c
}

func imageCommand() *cobra.Command {
	return &cobra.Command{
		Use: "image REF…", Short: "Push images that hold nothing but their names, the same each time", Example: "  vigila-lab image 127.0.0.1:5000/pier-lights:1.5.0", Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			for _, a := range args {
				if err := registry.Push(c.Context(), a); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

func hostileCommand() *cobra.Command {
	var round int
	c := &cobra.Command{
		Use: "hostile URL", Short: "Push a repository of bombs, endless trees and other hostile things; prints its paths, and what to expect of each, as JSON",
		Example: "  vigila-lab hostile http://127.0.0.1:4000/hostile.git", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			things, err := hostile.Push(args[0], round)
			if err != nil {
				return err
			}
			return json.NewEncoder(os.Stdout).Encode(things)
		},
	}
	c.Flags().IntVar(&round, "round", 0, "another number makes everything new")
	return c
}

func commitCommand() *cobra.Command {
	var author, message, branch string
	c := &cobra.Command{
		Use: "commit URL FROM", Short: "Lay the files of a directory over a repository and push the commit",
		Example: "  vigila-lab commit http://127.0.0.1:4000/moorings.git lab/demo/later/fog --message 'Shorten the interval'",
		Args:    cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			return gitserve.Commit(args[0], branch, author, message, func(dir string) error {
				return copyOver(dir, args[1])
			})
		},
	}
	c.Flags().StringVar(&author, "author", "operator", "the author's role")
	c.Flags().StringVar(&message, "message", "Change", "the message")
	c.Flags().StringVar(&branch, "branch", "main", "the branch")
	return c
}

func copyOver(dir, from string) error {
	return filepath.WalkDir(from, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		to := filepath.Join(dir, rel)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		return os.WriteFile(to, b, 0o644)
	})
}
