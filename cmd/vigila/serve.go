package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"k8s.io/klog/v2"

	"vigila.dev/vigila/console"
	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/server"
)

// settings are those of the service. Each may come from a flag (--allow-local-repos), the environment
// (VIGILA_ALLOW_LOCAL_REPOS) or the configuration file (allow_local_repos), in this order.
type settings struct {
	Listen          string `mapstructure:"listen"`
	Data            string `mapstructure:"data"`
	Parallel        int    `mapstructure:"parallel"`
	LogLevel        string `mapstructure:"log_level"`
	LogFormat       string `mapstructure:"log_format"`
	AdminTokenFile  string `mapstructure:"admin_token_file"`
	AllowLocalRepos bool   `mapstructure:"allow_local_repos"`
	ClusterCalls    int    `mapstructure:"cluster_calls"`
	KeepEntries     int    `mapstructure:"keep_entries"`
	KeepFor         string `mapstructure:"keep_for"`
	Profiles        string `mapstructure:"profiles"`
	keepFor         time.Duration
}

func serveCommand() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service: the API, the console and the loops that keep wards",
		Long: `Run the service: the API, the console and the loops that keep wards. At its first start it makes an admin token
and prints it once, as a sign-in link.

Every flag may as well stand in the configuration file (allow_local_repos: true) or in the environment
(VIGILA_ALLOW_LOCAL_REPOS=true); a flag wins over the environment, the environment over the file.`,
		Example: "  vigila serve\n  vigila serve --listen 127.0.0.1:7740 --data /var/lib/vigila\n  VIGILA_LOG_FORMAT=json vigila serve --config vigila.yaml",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := readSettings(c, file)
			if err != nil {
				return &cli.Exit{Code: cli.ExitUsage, Text: err.Error()}
			}
			return serve(c.Context(), s)
		},
	}
	data := "vigila-data"
	if dir, err := os.UserHomeDir(); err == nil {
		data = filepath.Join(dir, ".local", "share", "vigila")
	}
	f := c.Flags()
	f.StringVar(&file, "config", "", "configuration file, YAML")
	f.String("listen", "127.0.0.1:7740", "address to listen on; port 0 takes a free one")
	f.String("data", data, "directory of the database, the key and the mirrors")
	f.Int("parallel", 8, "objects applied at a time in one run")
	f.Int("cluster-calls", 32, "calls to one cluster at a time, over all its runs")
	f.Int("keep-entries", 1000, "entries of each ward's logbook that are kept, the newest; 0: all")
	f.String("keep-for", "0", "how long entries are kept, such as 90d or 720h; 0: for ever")
	f.String("log-level", "info", "debug, info, warn or error")
	f.String("log-format", "text", "text or json")
	f.String("admin-token-file", "", "where to write the admin token at the first start, instead of printing it")
	f.String("profiles", "", "loopback address to serve Go profiles at (/debug/pprof), to find out where time and memory go; none when empty")
	f.Bool("allow-local-repos", false, "take repositories at file:// addresses, for trials")
	return c
}

func readSettings(c *cobra.Command, file string) (settings, error) {
	v := viper.New()
	v.SetEnvPrefix("VIGILA")
	v.AutomaticEnv()
	var s settings
	var known []string
	for _, name := range []string{"listen", "data", "parallel", "log-level", "log-format", "admin-token-file", "allow-local-repos", "cluster-calls", "keep-entries", "keep-for", "profiles"} {
		key := strings.ReplaceAll(name, "-", "_")
		known = append(known, key)
		if err := v.BindPFlag(key, c.Flags().Lookup(name)); err != nil {
			return s, err
		}
	}
	if file != "" {
		v.SetConfigFile(file)
		v.SetConfigType("yaml")
		if err := v.ReadInConfig(); err != nil {
			return s, fmt.Errorf("configuration %s: %w", file, err)
		}
		for _, key := range v.AllKeys() {
			if !slices.Contains(known, key) {
				return s, fmt.Errorf("configuration %s: unknown key %s; known: %s", file, key, strings.Join(known, ", "))
			}
		}
	}
	if err := v.Unmarshal(&s); err != nil {
		return s, fmt.Errorf("configuration: %w", err)
	}
	if s.Parallel < 1 || s.Parallel > 256 {
		return s, fmt.Errorf("parallel is %d; it must be 1 to 256", s.Parallel)
	}
	if s.ClusterCalls < 1 || s.ClusterCalls > 1024 {
		return s, fmt.Errorf("cluster_calls is %d; it must be 1 to 1024", s.ClusterCalls)
	}
	if s.KeepEntries < 0 {
		return s, fmt.Errorf("keep_entries is %d; it must be 0 or more", s.KeepEntries)
	}
	var err error
	if s.keepFor, err = days(s.KeepFor); err != nil {
		return s, fmt.Errorf("keep_for is %q; write a time such as 90d or 720h, or 0", s.KeepFor)
	}
	if host, _, err := net.SplitHostPort(s.Profiles); s.Profiles != "" {
		if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
			return s, fmt.Errorf("profiles is %q; write a loopback address with a port, such as 127.0.0.1:7741", s.Profiles)
		}
	}
	if s.LogFormat != "text" && s.LogFormat != "json" {
		return s, fmt.Errorf("log_format is %q; write text or json", s.LogFormat)
	}
	return s, nil
}

// days reads a time that may be given in days: 90d.
func days(text string) (time.Duration, error) {
	if n, ok := strings.CutSuffix(text, "d"); ok {
		d, err := strconv.Atoi(n)
		if err == nil && d < 0 {
			err = errors.New("negative")
		}
		return time.Duration(d) * 24 * time.Hour, err
	}
	if text == "0" || text == "" {
		return 0, nil
	}
	d, err := time.ParseDuration(text)
	if err == nil && d < 0 {
		err = errors.New("negative")
	}
	return d, err
}

func serve(ctx context.Context, s settings) error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(s.LogLevel)); err != nil {
		return &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf("log_level is %q; write debug, info, warn or error", s.LogLevel)}
	}
	var handler slog.Handler = slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level})
	if s.LogFormat == "json" {
		handler = slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level})
	}
	log := slog.New(handler)
	klog.SetSlogLogger(slog.New(asDebug{handler}).With("from", "client-go"))

	store, err := record.Open(ctx, s.Data)
	if err != nil {
		return err
	}
	defer store.Close()
	listener, err := net.Listen("tcp", s.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; choose another with --listen", s.Listen, err)
	}
	address := "http://" + listener.Addr().String()
	if err := firstToken(ctx, store, s, address); err != nil {
		return err
	}
	k, err := keeper.New(ctx, store, keeper.Options{MirrorDir: filepath.Join(s.Data, "mirrors"), AllowLocalRepos: s.AllowLocalRepos, Parallel: s.Parallel,
		Calls: s.ClusterCalls, Keep: record.Retention{Entries: s.KeepEntries, Age: s.keepFor}}, log)
	if err != nil {
		return err
	}
	defer k.Close()
	h := &http.Server{
		Handler:           server.New(server.Options{Keeper: k, Store: store, Console: console.Files(), Version: version, Log: log, Ending: ctx.Done()}),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		ErrorLog:          slog.NewLogLogger(handler, slog.LevelDebug),
	}
	failed := make(chan error, 2)
	go func() { failed <- h.Serve(listener) }()
	if s.Profiles != "" {
		stop, err := serveProfiles(s.Profiles, failed, log)
		if err != nil {
			return err
		}
		defer stop()
	}
	log.Info("Vigila keeps watch", "address", address, "data", s.Data, "version", version)
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	log.Info("ending")
	end, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := h.Shutdown(end); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return nil
}

// serveProfiles serves net/http/pprof. Profiles show code and sizes, no contents; all the same only to this machine.
func serveProfiles(address string, failed chan<- error, log *slog.Logger) (stop func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen on %s for profiles: %w", address, err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	h := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		if err := h.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			failed <- err
		}
	}()
	log.Info("profiles are served", "profiles", "http://"+l.Addr().String()+"/debug/pprof/")
	return func() { _ = h.Close() }, nil
}

// asDebug lowers what client-go says to debug: what matters of it is told by the wards it concerns.
type asDebug struct{ slog.Handler }

func (h asDebug) Enabled(ctx context.Context, _ slog.Level) bool {
	return h.Handler.Enabled(ctx, slog.LevelDebug)
}

func (h asDebug) Handle(ctx context.Context, r slog.Record) error {
	r.Level = slog.LevelDebug
	return h.Handler.Handle(ctx, r)
}

func (h asDebug) WithAttrs(a []slog.Attr) slog.Handler { return asDebug{h.Handler.WithAttrs(a)} }

func (h asDebug) WithGroup(name string) slog.Handler { return asDebug{h.Handler.WithGroup(name)} }

// firstToken makes the admin token when there is no token yet, and shows it once.
func firstToken(ctx context.Context, store *record.Store, s settings, address string) error {
	n, err := store.Tokens(ctx)
	if err != nil || n > 0 {
		return err
	}
	token, hash := server.NewToken()
	if s.AdminTokenFile != "" {
		if err := os.WriteFile(s.AdminTokenFile, []byte(token+"\n"), 0o600); err != nil {
			return fmt.Errorf("write the admin token: %w", err)
		}
	}
	if err := store.AddToken(ctx, hash, record.Token{Name: "admin", Role: "admin"}); err != nil {
		return err
	}
	if s.AdminTokenFile == "" {
		fmt.Printf("\nSign in, in a browser or with vigila sign-in (this link is shown once):\n\n  %s/#sign-in=%s\n\n", address, token)
	}
	return nil
}
