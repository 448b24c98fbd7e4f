package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/backup"
	"vigila.dev/vigila/internal/cli"
)

func backupCommand() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Take, list and restore backups of the service's record",
		Long: `Take, list and restore backups of the service's record: everything in its data directory but mirrors, which are fetched
again, and the key. A backup is encrypted with that key (vigila.key in the data directory, or VIGILA_KEY): keep a copy of it
somewhere else, or no backup can be read.

A place is a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST for a server that speaks S3, with its credentials in
AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY. A running service takes backups by itself: vigila serve --backup-to.`,
		Example: "  vigila backup take --to /srv/backups\n  vigila backup list --in /srv/backups\n  vigila backup restore --from /srv/backups --data /var/lib/vigila"}
	c.AddCommand(backupTake(), backupList(), backupRestore())
	return c
}

// dataDir is where a service keeps its record unless somebody says otherwise.
func dataDir() string {
	if dir, err := os.UserHomeDir(); err == nil {
		return filepath.Join(dir, ".local", "share", "vigila")
	}
	return "vigila-data"
}

func place(address, flag string) (backup.Place, error) {
	if address == "" {
		return nil, &cli.Exit{Code: cli.ExitUsage, Text: "say where with " + flag + ": a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST"}
	}
	p, err := backup.Open(address)
	if err != nil {
		return nil, &cli.Exit{Code: cli.ExitUsage, Text: err.Error()}
	}
	return p, nil
}

func backupTake() *cobra.Command {
	var data, to string
	var keep int
	c := &cobra.Command{Use: "take", Short: "Take a backup now, whether the service runs or not", Example: "  vigila backup take --to /srv/backups\n  vigila backup take --to 's3://harbour/vigila?endpoint=https://s3.brindle.example' --keep 14", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := place(to, "--to")
			if err != nil {
				return err
			}
			name, err := backup.Take(c.Context(), data, p, time.Now())
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is in %s. It is encrypted with the key of %s, which is not in it.\n", name, p, data)
			return backup.Thin(c.Context(), p, keep)
		}}
	c.Flags().StringVar(&data, "data", dataDir(), "data directory of the service")
	c.Flags().StringVar(&to, "to", "", "place: a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST")
	c.Flags().IntVar(&keep, "keep", 0, "backups that are left there, the newest; 0: all")
	return c
}

func backupList() *cobra.Command {
	var in, output string
	c := &cobra.Command{Use: "list", Short: "List the backups in a place, newest first", Example: "  vigila backup list --in /srv/backups\n  vigila backup list --in /srv/backups -o json", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := place(in, "--in")
			if err != nil {
				return err
			}
			all, err := p.List(c.Context())
			if err != nil {
				return err
			}
			items := []map[string]any{}
			for _, b := range all {
				items = append(items, map[string]any{"name": b.Name, "at": b.At, "bytes": b.Size})
			}
			if done, err := cli.Document(c.OutOrStdout(), output, map[string]any{"items": items}); done {
				return err
			}
			if len(all) == 0 {
				fmt.Fprintf(c.OutOrStdout(), "No backup in %s yet. Take one: vigila backup take --to %s\n", p, in)
				return nil
			}
			w := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "BACKUP\tTAKEN\tSIZE")
			for _, b := range all {
				fmt.Fprintf(w, "%s\t%s\t%.1f MiB\n", b.Name, b.At.Format("2006-01-02 15:04:05 MST"), float64(b.Size)/(1<<20))
			}
			return w.Flush()
		}}
	c.Flags().StringVar(&in, "in", "", "place: a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST")
	return cli.Reading(c, &output)
}

func backupRestore() *cobra.Command {
	var data, from string
	c := &cobra.Command{Use: "restore [NAME]", Short: "Make the record of a data directory what a backup holds; the newest without a name",
		Long: `Make the record of a data directory what a backup holds. Nothing is written over: the directory must have no database, and its
vigila.key must be the one that the backup was encrypted with (or VIGILA_KEY). What lookouts did since then they tell once
they have called; what was done to clusters that the service reaches itself is found by looking at them.`,
		Example: "  vigila backup restore --from /srv/backups --data /var/lib/vigila", Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := place(from, "--from")
			if err != nil {
				return err
			}
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			if name, err = backup.Restore(c.Context(), data, p, name); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is restored into %s. Start it: vigila serve --data %s\n", name, data, data)
			return nil
		}}
	c.Flags().StringVar(&data, "data", dataDir(), "data directory, without a database")
	c.Flags().StringVar(&from, "from", "", "place: a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST")
	return c
}

// backups are taken of a running service's record.
type backups struct {
	dir   string
	to    backup.Place
	every time.Duration
	keep  int
	log   *slog.Logger

	newest atomic.Int64 // when the newest one was taken, in seconds since 1970; 0 when there is none
}

// tells has the age of the newest backup be measured: that none could be taken is noticed when one is needed, otherwise.
func (b *backups) tells(r prometheus.Registerer) {
	r.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "vigila_backup_newest_timestamp_seconds", Help: "When the newest backup was taken; 0 when there is none."},
		func() float64 { return float64(b.newest.Load()) }))
}

// run takes backups until ctx ends. One that can't be taken is told, and tried again sooner.
func (b *backups) run(ctx context.Context) {
	wait := b.since(ctx) // a service that is started often takes no more for it
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(max(wait, 0)):
		}
		name, err := b.take(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			b.log.Error("no backup could be taken; it is tried again", "error", err)
			wait = min(b.every, 5*time.Minute)
		default:
			b.log.Info("a backup was taken", "name", name, "in", b.to.String())
			wait = b.every
		}
	}
}

// since is how long it is until the next backup is due, going by those that there are.
func (b *backups) since(ctx context.Context) time.Duration {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	all, err := b.to.List(ctx)
	if err != nil || len(all) == 0 {
		return 0
	}
	b.newest.Store(all[0].At.Unix())
	return time.Until(all[0].At.Add(b.every))
}

// take takes one, within bounds: of a place that neither takes it nor refuses it nobody would hear.
func (b *backups) take(ctx context.Context) (name string, err error) {
	longest := max(b.every, time.Hour)
	ctx, cancel := context.WithTimeoutCause(ctx, longest, fmt.Errorf("%s did not take it within %s", b.to, longest))
	defer cancel()
	at := time.Now()
	name, err = backup.Take(ctx, b.dir, b.to, at)
	if cause := context.Cause(ctx); err != nil && cause != nil {
		err = cause
	}
	if err != nil {
		return "", err
	}
	b.newest.Store(at.Unix())
	if err := backup.Thin(ctx, b.to, b.keep); err != nil { // this one was taken all the same: one more every few minutes would fill the place
		b.log.Error("older backups can't be removed; it is tried again with the next", "in", b.to.String(), "error", err)
	}
	return name, nil
}
