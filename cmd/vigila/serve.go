package main

import (
	"context"
	"crypto/tls"
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
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"k8s.io/klog/v2"

	"vigila.dev/vigila/console"
	"vigila.dev/vigila/internal/backup"
	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/server"
	"vigila.dev/vigila/internal/visible"
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
	ChecksLocal     bool   `mapstructure:"checks_may_reach_local"`
	ClusterCalls    int    `mapstructure:"cluster_calls"`
	KeepEntries     int    `mapstructure:"keep_entries"`
	KeepFor         string `mapstructure:"keep_for"`
	KeepAudit       string `mapstructure:"keep_audit"`
	Profiles        string `mapstructure:"profiles"`
	Kubeconfigs     string `mapstructure:"kubeconfigs"`
	Commands        bool   `mapstructure:"kubeconfig_commands"`
	TLSCert         string `mapstructure:"tls_cert"`
	TLSKey          string `mapstructure:"tls_key"`
	PlainHTTP       bool   `mapstructure:"plain_http"`
	MetricsListen   string `mapstructure:"metrics_listen"`
	TrustedProxies  string `mapstructure:"trusted_proxies"`
	SessionIdle     string `mapstructure:"session_idle"`
	SessionFor      string `mapstructure:"session_for"`
	BackupTo        string `mapstructure:"backup_to"`
	BackupEvery     string `mapstructure:"backup_every"`
	BackupKeep      int    `mapstructure:"backup_keep"`
	StandBy         bool   `mapstructure:"stand_by"`
	StandByOf       string `mapstructure:"stand_by_of"`
	StandByCA       string `mapstructure:"stand_by_ca_file"`
	Lease           string `mapstructure:"lease"`
	LeaseKubeconfig string `mapstructure:"lease_kubeconfig"`
	InPlaceOf       string `mapstructure:"in_place_of"`
	keepFor         time.Duration
	keepAudit       time.Duration
	sessionIdle     time.Duration
	sessionFor      time.Duration
	backupTo        backup.Place // nil: none are taken
	backupEvery     time.Duration
}

func serveCommand() *cobra.Command {
	var file string
	var another bool
	c := &cobra.Command{
		Use: "serve", Short: "Run the service: the API, the console and the loops that keep wards",
		Long: `Run the service: the API, the console and the loops that keep wards. At its first start it makes an admin token
and prints it once, as a sign-in link.

Every flag may as well stand in the configuration file (allow_local_repos: true) or in the environment
(VIGILA_ALLOW_LOCAL_REPOS=true); a flag wins over the environment, the environment over the file.

Where no admin's token is left: vigila serve --make-admin-token makes one on the service's machine, and ends.`,
		Example: "  vigila serve\n  vigila serve --listen 127.0.0.1:7740 --data /var/lib/vigila\n  VIGILA_LOG_FORMAT=json vigila serve --config vigila.yaml",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := readSettings(c, file)
			if err != nil {
				return &cli.Exit{Code: cli.ExitUsage, Text: err.Error()}
			}
			if another {
				return moreToken(c.Context(), s)
			}
			return serve(c.Context(), s)
		},
	}
	data := dataDir()
	f := c.Flags()
	f.StringVar(&file, "config", "", "configuration file, YAML")
	f.BoolVar(&another, "make-admin-token", false, "make another admin's token for the service with this --data, running or not, print it and end")
	f.String("listen", "127.0.0.1:7740", "address to listen on; port 0 takes a free one")
	f.String("tls-cert", "", "certificate (PEM, with those between) to serve HTTPS with; read anew when the file changes")
	f.String("tls-key", "", "its private key (PEM)")
	f.Bool("plain-http", false, "serve plain HTTP to other machines: something in front of it speaks HTTPS")
	f.String("metrics-listen", "", "address to serve /metrics at without a sign-in, besides the other one with it; none when empty")
	f.String("trusted-proxies", "", "addresses or networks, separated by commas, that are believed when they say who asks (X-Forwarded-For)")
	f.String("data", data, "directory of the database, the key and the mirrors")
	f.Int("parallel", 8, "objects applied at a time in one run")
	f.Int("cluster-calls", 32, "calls to one cluster at a time, over all its runs")
	f.Int("keep-entries", 1000, "entries of each ward's logbook that are kept, the newest; 0: all")
	f.String("keep-audit", "732d", "how long is kept what was done and by whom, such as 732d; 0: for ever")
	f.String("session-idle", "8h", "how long somebody stays signed in who does nothing, such as 8h")
	f.String("session-for", "24h", "how long somebody stays signed in at most, such as 24h or 7d")
	f.String("keep-for", "0", "how long entries are kept, such as 90d or 720h; 0: for ever")
	f.Bool("stand-by", false, "where another service works in the data directory, wait until it is gone, and take over")
	f.String("stand-by-of", "", "addresses, separated by commas, of the services of the same pair on other machines (its own may be among them): while one of them works, a copy of its record is kept here; all need the same vigila.key, and --lease")
	f.String("stand-by-ca-file", "", "authorities (PEM) of that address's certificate, where the system does not know them")
	f.String("lease", "", "NAMESPACE/NAME of a Lease (coordination.k8s.io): of the services that name it only the one that holds it works")
	f.String("lease-kubeconfig", "", "how the cluster of the Lease is reached; from inside it when empty")
	f.String("in-place-of", "", "the id of a service that is lost with its record: what it kept is this one's own, and its lookouts tell this one what they know")
	f.String("backup-to", "", "place that backups are taken into: a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST; none when empty")
	f.String("backup-every", "24h", "how often a backup is taken, such as 6h or 1d")
	f.Int("backup-keep", 14, "backups that are left there, the newest; 0: all")
	f.String("log-level", "info", "debug, info, warn or error")
	f.String("log-format", "text", "text or json")
	f.String("admin-token-file", "", "where to write the admin token at the first start, instead of printing it")
	f.String("profiles", "", "loopback address to serve Go profiles at (/debug/pprof), to find out where time and memory go; none when empty")
	f.String("kubeconfigs", "", "directory of kubeconfigs that whoever adds a cluster may name; none when empty")
	f.Bool("kubeconfig-commands", false, "let kubeconfigs in that directory name commands and files, which the service then runs and reads")
	f.Bool("allow-local-repos", false, "take repositories at file:// addresses, for trials")
	f.Bool("checks-may-reach-local", false, "requests of the checks of canaries may reach this machine and its link, for trials")
	return c
}

func readSettings(c *cobra.Command, file string) (settings, error) {
	v := viper.New()
	v.SetEnvPrefix("VIGILA")
	v.AutomaticEnv()
	var s settings
	var known []string
	for _, name := range []string{"listen", "data", "parallel", "log-level", "log-format", "admin-token-file", "allow-local-repos", "checks-may-reach-local", "cluster-calls", "keep-entries", "keep-for", "keep-audit", "session-idle", "session-for", "stand-by", "stand-by-of", "stand-by-ca-file", "lease", "lease-kubeconfig", "in-place-of", "backup-to", "backup-every", "backup-keep", "profiles", "kubeconfigs", "kubeconfig-commands", "tls-cert", "tls-key", "plain-http", "metrics-listen", "trusted-proxies"} {
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
	if err := s.overTheNetwork(); err != nil {
		return s, err
	}
	if s.Kubeconfigs != "" {
		if s.Kubeconfigs, err = filepath.Abs(s.Kubeconfigs); err != nil {
			return s, err
		}
		if st, err := os.Stat(s.Kubeconfigs); err != nil || !st.IsDir() {
			return s, fmt.Errorf("kubeconfigs is %q, which is no directory that can be read", s.Kubeconfigs)
		}
	} else if s.Commands {
		return s, errors.New("kubeconfig_commands needs kubeconfigs: the directory that they are in")
	}
	if s.keepFor, err = days(s.KeepFor); err != nil {
		return s, fmt.Errorf("keep_for is %q; write a time such as 90d or 720h, or 0", s.KeepFor)
	}
	for _, x := range []struct {
		name, text string
		into       *time.Duration
	}{{"session_idle", s.SessionIdle, &s.sessionIdle}, {"session_for", s.SessionFor, &s.sessionFor}} {
		if *x.into, err = days(x.text); err != nil || *x.into < time.Minute || *x.into > 90*24*time.Hour {
			return s, fmt.Errorf("%s is %q; write between 1m and 90d, such as 8h", x.name, x.text)
		}
	}
	if err := s.pairing(); err != nil {
		return s, err
	}
	if s.BackupTo != "" {
		if s.backupTo, err = backup.Open(s.BackupTo); err != nil {
			return s, fmt.Errorf("backup_to: %w", err)
		}
		if s.backupEvery, err = days(s.BackupEvery); err != nil || s.backupEvery < time.Minute {
			return s, fmt.Errorf("backup_every is %q; write a time of a minute or more, such as 6h or 1d", s.BackupEvery)
		}
		if s.BackupKeep < 0 {
			return s, fmt.Errorf("backup_keep is %d; it must be 0 or more", s.BackupKeep)
		}
	}
	if s.keepAudit, err = days(s.KeepAudit); err != nil {
		return s, fmt.Errorf("keep_audit is %q; write a time such as 732d or 720h, or 0", s.KeepAudit)
	}
	if err := loopbackOnly(s.Profiles); err != nil {
		return s, err
	}
	if s.LogFormat != "text" && s.LogFormat != "json" {
		return s, fmt.Errorf("log_format is %q; write text or json", s.LogFormat)
	}
	return s, nil
}

// loopbackOnly refuses to serve profiles to other machines.
func loopbackOnly(profiles string) error {
	host, _, err := net.SplitHostPort(profiles)
	if ip := net.ParseIP(host); profiles != "" && (err != nil || ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("profiles is %q; write a loopback address with a port, such as 127.0.0.1:7741", profiles)
	}
	return nil
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
	log, handler, err := logger(s.LogLevel, s.LogFormat)
	if err != nil {
		return err
	}
	render.Offline()
	syscall.Umask(0o077) // what is kept is nobody else's: private code, and what of it is secret
	klog.SetSlogLogger(slog.New(asDebug{handler}).With("from", "client-go"))

	listener, err := net.Listen("tcp", s.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; choose another with --listen", s.Listen, err)
	}
	ctx, lost := context.WithCancelCause(ctx)
	defer lost(nil)
	letGo, err := s.elect(ctx, listener, lost, log)
	if err != nil {
		return errors.Join(err, listener.Close())
	}
	defer letGo()
	if ctx.Err() != nil { // it ended while it stood by
		return listener.Close()
	}
	store, err := s.open(ctx, listener, log)
	if err != nil {
		return errors.Join(err, listener.Close())
	}
	if store == nil { // it ended while it stood by
		return nil
	}
	defer store.Close()
	if s.InPlaceOf != "" {
		if err := store.TakePlace(ctx, s.InPlaceOf); err != nil {
			return &cli.Exit{Code: cli.ExitUsage, Text: "in_place_of: " + err.Error()}
		}
	}
	address := "http://" + listener.Addr().String()
	if s.TLSCert != "" {
		pair := &certificate{cert: s.TLSCert, key: s.TLSKey, log: log}
		if _, err := pair.get(nil); err != nil {
			return err
		}
		listener = tls.NewListener(server.Bounded(listener), &tls.Config{GetCertificate: pair.get, MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"}})
		address = "https://" + strings.TrimPrefix(address, "http://")
	} else {
		listener = server.Bounded(listener)
	}
	if err := firstToken(ctx, store, s, address); err != nil {
		return err
	}
	program, err := self()
	if err != nil {
		return fmt.Errorf("find this program: %w", err)
	}
	k, err := keeper.New(ctx, store, keeper.Options{Render: render.NewApart(program, apart).Render, MirrorDir: filepath.Join(s.Data, "mirrors"), AllowLocalRepos: s.AllowLocalRepos, ChecksLocal: s.ChecksLocal, Parallel: s.Parallel,
		Calls: s.ClusterCalls, Kubeconfigs: cluster.Kubeconfigs{Dir: s.Kubeconfigs, Commands: s.Commands}, Keep: record.Retention{Entries: s.KeepEntries, Age: s.keepFor}, KeepAudit: s.keepAudit, SessionIdle: s.sessionIdle, SessionFor: s.sessionFor}, log)
	if err != nil {
		return err
	}
	defer k.Close()
	h := &http.Server{
		Handler:           server.New(server.Options{Keeper: k, Console: console.Files(), Version: version, Log: log, Ending: ctx.Done(), Proxies: listed(s.TrustedProxies), Copy: copyOf(store, log)}),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		ErrorLog:          slog.NewLogLogger(handler, slog.LevelDebug),
	}
	failed := make(chan error, 3)
	go func() { failed <- h.Serve(listener) }()
	if s.MetricsListen != "" {
		mux := http.NewServeMux()
		mux.Handle("/metrics", server.Metrics(k))
		stop, err := serveBeside(s.MetricsListen, "metrics", "/metrics", mux, failed, log)
		if err != nil {
			return err
		}
		defer stop()
	}
	if s.Profiles != "" {
		stop, err := serveProfiles(s.Profiles, failed, log)
		if err != nil {
			return err
		}
		defer stop()
	}
	if s.backupTo != nil {
		b := backups{dir: s.Data, to: s.backupTo, every: s.backupEvery, keep: s.BackupKeep, log: log}
		b.tells(k.Registry())
		taking, stop := context.WithCancel(ctx)
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			b.run(taking)
		}()
		defer func() { // its copy of the record is not left behind
			stop()
			select {
			case <-ended:
			case <-time.After(5 * time.Second): // a place may hang, and whoever takes over waits
			}
		}()
	}
	log.Info("Vigila keeps watch", "address", address, "data", s.Data, "version", version, "service", store.ServiceID())
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
	if cause := context.Cause(ctx); errors.Is(cause, errLeaseLost) {
		return cause
	}
	return nil
}

// logger writes what happens to standard error.
func logger(level, format string) (*slog.Logger, slog.Handler, error) {
	var least slog.Level
	if err := least.UnmarshalText([]byte(level)); err != nil {
		return nil, nil, &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf("log_level is %q; write debug, info, warn or error", level)}
	}
	// What comes from a commit or a cluster is written out, also where the log is read on a terminal.
	opts := &slog.HandlerOptions{Level: least, ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		switch v := a.Value.Any().(type) {
		case string:
			return slog.String(a.Key, visible.Text(v))
		case error:
			return slog.String(a.Key, visible.Text(v.Error()))
		}
		return a
	}}
	var handler slog.Handler = slog.NewTextHandler(os.Stderr, opts)
	if format == "json" {
		handler = slog.NewJSONHandler(os.Stderr, opts)
	}
	return slog.New(handler), handler, nil
}

// serveProfiles serves net/http/pprof. Profiles show code and sizes, no contents; all the same only to this machine.
func serveProfiles(address string, failed chan<- error, log *slog.Logger) (stop func(), err error) {
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	return serveBeside(address, "profiles", "/debug/pprof/", mux, failed, log)
}

// serveBeside serves something at an address of its own.
func serveBeside(address, what, path string, handler http.Handler, failed chan<- error, log *slog.Logger) (stop func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen on %s for %s: %w", address, what, err)
	}
	h := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute}
	go func() {
		if err := h.Serve(server.Bounded(l)); !errors.Is(err, http.ErrServerClosed) {
			failed <- err
		}
	}()
	log.Info(what+" are served", what, "http://"+l.Addr().String()+path)
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

// firstToken makes an admin's token when there is no token yet, and shows it once.
func firstToken(ctx context.Context, store *record.Store, s settings, address string) error {
	all, err := store.Tokens(ctx)
	if err != nil || len(all) > 0 {
		return err
	}
	token, hash := keeper.NewToken()
	t := adminToken("admin")
	if s.AdminTokenFile != "" {
		if err := os.WriteFile(s.AdminTokenFile, []byte(token+"\n"), 0o600); err != nil {
			return fmt.Errorf("write the admin token: %w", err)
		}
	}
	if err := store.AddToken(ctx, hash, t); err != nil {
		return err
	}
	if s.AdminTokenFile == "" {
		showToken(token, address, t)
	}
	_, err = store.AddAudit(ctx, audit.Entry{At: time.Now(), By: "vigila", Verb: "make", Of: "token", Name: t.Name, With: map[string]string{"role": t.Role}, Outcome: audit.Done, Why: "there was none yet"})
	return err
}

// moreToken makes another admin's token for a service that may be running, and shows it once.
func moreToken(ctx context.Context, s settings) error {
	token, hash := keeper.NewToken()
	t := adminToken("admin-" + time.Now().UTC().Format("20060102-150405"))
	if err := record.AddTokenIn(ctx, s.Data, hash, t); err != nil {
		return err
	}
	if s.AdminTokenFile != "" {
		if err := os.WriteFile(s.AdminTokenFile, []byte(token+"\n"), 0o600); err != nil {
			return fmt.Errorf("write the admin token: %w", err)
		}
		return nil
	}
	scheme := "http://"
	if s.TLSCert != "" {
		scheme = "https://"
	}
	showToken(token, scheme+s.Listen, t)
	fmt.Printf("Tokens that nobody has any more: vigila token list, then vigila token end NAME\n\n")
	return nil
}

func adminToken(name string) record.Token {
	return record.Token{Name: name, Role: "admin", Expires: time.Now().Add(keeper.AdminToken).UTC().Truncate(time.Second)}
}

func showToken(token, address string, t record.Token) {
	fmt.Printf("\nSign in as %s, in a browser or with vigila sign-in (this link is shown once; it is taken until %s):\n\n  %s/#sign-in=%s\n\n", t.Name, t.Expires.Format(time.DateOnly), address, token)
}
