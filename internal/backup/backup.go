// Package backup keeps copies of a service's record somewhere else: in a directory, or at an address that speaks S3. A copy is made while
// the service works, encrypted with the service's age key, and found again by its name, which holds its time. Start with Open and Place.
package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"vigila.dev/vigila/internal/record"
)

// Place is where backups are kept. Names are those of Name.
type Place interface {
	Put(ctx context.Context, name string, r io.Reader) error
	Get(ctx context.Context, name string) (io.ReadCloser, error)
	List(ctx context.Context) ([]Backup, error) // newest first
	Remove(ctx context.Context, name string) error
	String() string // without what is secret
}

// Backup is one that is kept.
type Backup struct {
	Name string
	At   time.Time
	Size int64 // bytes
}

const (
	before = "vigila-"
	form   = "20060102T150405Z"
	after  = ".db.gz.age"
)

// Name is what a backup of a time is called; times are in UTC, to the second.
func Name(at time.Time) string { return before + at.UTC().Format(form) + after }

// Time is the time in a name; false for one of something else.
func Time(name string) (time.Time, bool) {
	text, is := strings.CutPrefix(name, before)
	text, ends := strings.CutSuffix(text, after)
	at, err := time.Parse(form, text)
	return at, is && ends && err == nil
}

// Open is the place at an address: a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST (and region=). Who may write there is in
// AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, as every client of S3 reads them.
func Open(address string) (Place, error) {
	if !strings.Contains(address, "://") {
		if address == "" {
			return nil, errors.New("say where: a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST")
		}
		dir, err := filepath.Abs(address)
		return directory(dir), err
	}
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "s3" || u.Host == "" || u.User != nil {
		return nil, fmt.Errorf("%q is no place for backups; write a directory, or s3://BUCKET/PREFIX?endpoint=https://HOST, with the credentials in AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY", address)
	}
	for key := range u.Query() {
		if key != "endpoint" && key != "region" {
			return nil, fmt.Errorf("%q: unknown %s; known: endpoint, region", address, key)
		}
	}
	at, err := url.Parse(u.Query().Get("endpoint"))
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http" {
		return nil, fmt.Errorf("%q says no endpoint; write endpoint=https://HOST", address)
	}
	c, err := minio.New(at.Host, &minio.Options{Creds: credentials.NewEnvAWS(), Secure: at.Scheme == "https", Region: u.Query().Get("region")})
	if err != nil {
		return nil, fmt.Errorf("%q: %w", address, err)
	}
	prefix := strings.Trim(u.Path, "/")
	if prefix != "" {
		prefix += "/"
	}
	return bucket{c, u.Host, prefix}, nil
}

// Take makes a backup of the record in a directory, whether its service runs or not.
func Take(ctx context.Context, dir string, to Place, now time.Time) (string, error) {
	name := Name(now)
	r, w := io.Pipe()
	made := make(chan error, 1)
	go func() {
		err := record.Copy(ctx, dir, w)
		_ = w.CloseWithError(err) // whoever reads is told of it
		made <- err
	}()
	err := to.Put(ctx, name, r)
	_ = r.CloseWithError(errors.New("the place takes no more"))
	if copied := <-made; copied != nil && err == nil {
		err = copied
	}
	if err != nil {
		return "", fmt.Errorf("back up to %s: %w", to, err)
	}
	return name, nil
}

// Restore makes the record of a directory what a backup holds: the one of a name, or the newest where it is empty. The answer is its name.
func Restore(ctx context.Context, dir string, from Place, name string) (string, error) {
	if name == "" {
		all, err := from.List(ctx)
		if err != nil {
			return "", err
		}
		if len(all) == 0 {
			return "", fmt.Errorf("there is no backup in %s", from)
		}
		name = all[0].Name
	}
	if _, is := Time(name); !is {
		return "", fmt.Errorf("%q is no name of a backup; vigila backup list shows them", name)
	}
	r, err := from.Get(ctx, name)
	if err != nil {
		return "", err
	}
	defer r.Close()
	return name, record.PutBack(ctx, dir, r)
}

// Thin removes the oldest backups, so that so many are left; 0 leaves all.
func Thin(ctx context.Context, in Place, keep int) error {
	all, err := in.List(ctx)
	if err != nil || keep <= 0 || len(all) <= keep {
		return err
	}
	for _, b := range all[keep:] {
		if err := in.Remove(ctx, b.Name); err != nil {
			return err
		}
	}
	return nil
}

func newestFirst(all []Backup) []Backup {
	slices.SortFunc(all, func(a, b Backup) int { return b.At.Compare(a.At) })
	return all
}

// directory is a place on this machine.
type directory string

func (d directory) String() string { return string(d) }

// Put writes a file that is there whole or not at all.
func (d directory) Put(_ context.Context, name string, r io.Reader) error {
	if err := os.MkdirAll(string(d), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(string(d), ".vigila-backup-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = io.Copy(f, r)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), filepath.Join(string(d), name))
}

func (d directory) Get(_ context.Context, name string) (io.ReadCloser, error) {
	f, err := os.Open(filepath.Join(string(d), filepath.Base(name)))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("there is no backup %s in %s; vigila backup list shows them", name, d)
	}
	return f, err
}

func (d directory) List(context.Context) ([]Backup, error) {
	all, err := os.ReadDir(string(d))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	var out []Backup
	for _, f := range all {
		at, is := Time(f.Name())
		if st, err := f.Info(); is && err == nil && st.Mode().IsRegular() {
			out = append(out, Backup{f.Name(), at, st.Size()})
		}
	}
	return newestFirst(out), nil
}

func (d directory) Remove(_ context.Context, name string) error {
	return os.Remove(filepath.Join(string(d), filepath.Base(name)))
}

// bucket is a place that speaks S3.
type bucket struct {
	c            *minio.Client
	name, prefix string
}

func (b bucket) String() string {
	return "s3://" + b.name + "/" + b.prefix + " at " + b.c.EndpointURL().Host
}

// partSize is how large the parts are that a backup goes in: its size is not known before.
const partSize = 16 << 20

func (b bucket) Put(ctx context.Context, name string, r io.Reader) error {
	// age finds whatever is not as it was written, so no digest goes with it
	_, err := b.c.PutObject(ctx, b.name, b.prefix+name, r, -1, minio.PutObjectOptions{ContentType: "application/octet-stream", PartSize: partSize, DisableContentSha256: true})
	return err
}

func (b bucket) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	o, err := b.c.GetObject(ctx, b.name, b.prefix+name, minio.GetObjectOptions{})
	if err != nil {
		return nil, err
	}
	if _, err := o.Stat(); err != nil {
		_ = o.Close()
		return nil, fmt.Errorf("read backup %s of %s: %w", name, b, err)
	}
	return o, nil
}

func (b bucket) List(ctx context.Context) ([]Backup, error) {
	var out []Backup
	for o := range b.c.ListObjects(ctx, b.name, minio.ListObjectsOptions{Prefix: b.prefix + before}) {
		if o.Err != nil {
			return nil, fmt.Errorf("list the backups of %s: %w", b, o.Err)
		}
		name := strings.TrimPrefix(o.Key, b.prefix)
		if at, is := Time(name); is {
			out = append(out, Backup{name, at, o.Size})
		}
	}
	return newestFirst(out), nil
}

func (b bucket) Remove(ctx context.Context, name string) error {
	return b.c.RemoveObject(ctx, b.name, b.prefix+name, minio.RemoveObjectOptions{})
}
