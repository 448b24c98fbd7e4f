package main

import (
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"k8s.io/klog/v2"

	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/lookout"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/server"
)

func lookoutCommand() *cobra.Command {
	var s lookout.Settings
	var data, tokenFile, caFile, kubeconfig, context, level, format, listen, profiles, stores string
	var storeTokens map[string]string
	var limits roster.Limits
	data = dataDir() + "-lookout"
	c := &cobra.Command{
		Use: "lookout", Short: "Keep one cluster that the service can't reach: run it inside the cluster, or beside it",
		Long: `Keep one cluster that the service can't reach. A lookout calls the service, over HTTPS, and is called by nobody; it goes
through the proxy that HTTPS_PROXY names. It keeps the cluster's wards as the service tells it to, with a record of its own,
and while the service can't be reached it goes on with what it knows: it watches, puts drift back, finishes what runs and
goes back where a deploy fails, and begins nothing new.

vigila cluster add NAME --by-lookout prints all that is needed to run it inside a cluster, with a token that it joins with once.
Beside a cluster, give it a kubeconfig. It obeys the service whose key it was given, and nobody else, and does no more than its
own limits and the rights of its kubeconfig or service account let it.

With --stores it asks servers of secret values that it alone can reach: the file says where they are, as vigila schema store
tells, and --store-token in which files is what signs in to them. vigila store add NAME --by-lookout CLUSTER lets the cluster's
wards refer to them.`,
		Example: "  VIGILA_JOIN=vigila_… vigila lookout --service https://vigila.brindle.example --service-key KEY --data /var/lib/vigila-lookout\n" +
			"  vigila lookout --service https://vigila.brindle.example --service-key KEY --join-file token --kubeconfig skerry.yaml --only-namespace berth-planner",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			wrong := func(text string, args ...any) error {
				return &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf(text, args...)}
			}
			if s.Service == "" || s.Key == "" {
				return wrong("vigila lookout needs --service and --service-key; vigila cluster add NAME --by-lookout prints them")
			}
			if _, err := link.Address(s.Service); err != nil {
				return wrong("--service: %v", err)
			}
			if !link.IsName(s.Key) {
				return wrong("--service-key is %q, which is no name of a key; vigila cluster add NAME --by-lookout prints it", s.Key)
			}
			s.Token = os.Getenv("VIGILA_JOIN")
			if tokenFile != "" {
				b, err := os.ReadFile(tokenFile)
				if err != nil && !errors.Is(err, os.ErrNotExist) { // it is needed once
					return fmt.Errorf("read the token: %w", err)
				}
				s.Token = string(b)
			}
			s.Token = strings.TrimSpace(s.Token)
			if caFile != "" {
				b, err := os.ReadFile(caFile)
				if err != nil {
					return fmt.Errorf("read the authorities: %w", err)
				}
				if s.CA = b; !x509.NewCertPool().AppendCertsFromPEM(b) {
					return wrong("--ca-file: %s holds no certificate in PEM", caFile)
				}
			}
			switch {
			case stores != "":
				var err error
				if s.Stores, err = lookout.ReadStores(stores, storeTokens); err != nil {
					return wrong("--stores: %v", err)
				}
			case len(storeTokens) > 0:
				return wrong("--store-token belongs to --stores")
			}
			for _, n := range limits.Namespaces {
				if err := ward.Name(n); err != nil {
					return wrong("--only-namespace: %v", err)
				}
			}
			s.Cluster = record.Cluster{ClusterMore: record.ClusterMore{InCluster: kubeconfig == "", Only: limits.Namespaces}}
			files := cluster.Kubeconfigs{}
			if kubeconfig != "" {
				at, err := filepath.Abs(kubeconfig)
				if err != nil {
					return err
				}
				if _, err := os.Stat(at); err != nil {
					return wrong("the kubeconfig can't be read: %v", err)
				}
				files = cluster.Kubeconfigs{Dir: filepath.Dir(at), Commands: true} // it is the lookout's own
				s.Cluster.Kubeconfig, s.Cluster.Context = filepath.Base(at), context
			}
			if err := loopbackOnly(profiles); err != nil {
				return wrong("--%v", err)
			}
			log, handler, err := logger(level, format)
			if err != nil {
				return err
			}
			syscall.Umask(0o077)
			klog.SetSlogLogger(slog.New(asDebug{handler}).With("from", "client-go"))
			store, err := record.Open(c.Context(), data)
			if err != nil {
				return err
			}
			defer store.Close()
			s.Version, s.Limits = version, limits
			s.Keeper = keeper.Options{MirrorDir: filepath.Join(data, "mirrors"), Kubeconfigs: files, Keep: record.Retention{Entries: 1000}}
			if listen != "" {
				stop, err := serveHealth(listen, log)
				if err != nil {
					return err
				}
				defer stop()
			}
			if profiles != "" {
				stop, err := serveProfiles(profiles, make(chan error, 1), log)
				if err != nil {
					return err
				}
				defer stop()
			}
			log.Info("a lookout keeps watch", "service", s.Service, "data", data, "version", version)
			return lookout.Run(c.Context(), store, s, log)
		},
	}
	f := c.Flags()
	f.StringVar(&s.Service, "service", os.Getenv("VIGILA_SERVICE"), "address of the service, such as https://vigila.example.org (VIGILA_SERVICE)")
	f.StringVar(&s.Key, "service-key", os.Getenv("VIGILA_SERVICE_KEY"), "the name of the service's key: whoever has another is not obeyed (VIGILA_SERVICE_KEY)")
	f.StringVar(&tokenFile, "join-file", "", "file with the token to join with (or VIGILA_JOIN); it is needed once, and may be gone afterwards")
	f.StringVar(&caFile, "ca-file", "", "authorities (PEM) of the service's certificate, where the system does not know them")
	f.StringVar(&kubeconfig, "kubeconfig", "", "how the cluster is reached; from inside it when empty")
	f.StringVar(&context, "kube-context", "", "context in it (default: its current one)")
	f.StringVar(&data, "data", data, "directory of its record and its keys")
	f.StringSliceVar(&limits.Namespaces, "only-namespace", nil, "namespaces that it looks into and keeps objects in, whatever the service says")
	f.StringVar(&stores, "stores", "", "file of servers of secret values that it asks (store/v1): their addresses, mounts and ways to sign in")
	f.StringToStringVar(&storeTokens, "store-token", nil, "files of tokens, or secrets of roles, that sign in to them: NAME=FILE; may be given several times")
	f.StringVar(&listen, "health-listen", "", "address to answer /healthz at, such as :7742; none when empty")
	f.StringVar(&profiles, "profiles", "", "loopback address to serve Go profiles at (/debug/pprof), to find out where time and memory go; none when empty")
	f.StringVar(&level, "log-level", "info", "debug, info, warn or error")
	f.StringVar(&format, "log-format", "text", "text or json")
	return c
}

// serveHealth answers that the process is there; whether its service is, is told by the service.
func serveHealth(address string, log *slog.Logger) (stop func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w", address, err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	h := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = h.Serve(server.Bounded(l)) }()
	log.Info("health is served", "address", l.Addr().String())
	return func() { _ = h.Close() }, nil
}
