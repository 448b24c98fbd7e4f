package keeper

import (
	"context"
	"io"
	"net/http"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// reach is a connection to a cluster: what it is asked for, and what is known of it from its watches.
type reach interface {
	Handle(cluster.Handler)
	Close()
	Server() string
	CredentialsEnd() (what string, at time.Time)
	Version(context.Context) (string, error)
	LastVersion(context.Context) (string, error)
	APIs() (apis []string, whole bool, err error)
	OpenAPI(context.Context) ([]byte, error)

	Known([]object.Kind) cluster.State
	AllWatches() (cluster.State, int)
	Watch(object.Kind)
	Unwatch(object.Kind)
	Lacking(object.Kind) bool
	Namespaced(object.Object) (bool, error)
	Scaler(object.Ref) string
	ScalersKnown() bool

	Get(ctx context.Context, version string, ref object.Ref) (map[string]any, error)
	Everything(ctx context.Context, namespace string) ([]cluster.Found, error)
	Marked(ctx context.Context, each func(cluster.Found)) error
	Children(ctx context.Context, namespace string) (cluster.Children, error)
	Leads(ctx context.Context, namespace, service string) ([]map[string]any, error)
	AskPod(ctx context.Context, namespace, pod string, port int, path string, headers map[string]string) (*http.Response, error)
	Events(ctx context.Context, namespace string, about []object.Ref) ([]cluster.Event, error)
	Public() (server string, ca []byte, err error)
	Nodes(ctx context.Context) ([]cluster.Node, error)
	Warnings(ctx context.Context, since time.Time) (out []cluster.Event, all bool, err error)
	Logs(ctx context.Context, namespace, pod, container string, previous bool, tail int64) (string, error)
	Follow(ctx context.Context, namespace, pod, container string, w io.Writer) error
	BoundLater(ctx context.Context, claim map[string]any) (bool, error)
}

// ledger is what the record holds of wards, as one of them uses it.
type ledger interface {
	Commit(ctx context.Context, id string, writes ...record.Write) error

	Baselines(ctx context.Context, id string) (map[object.Ref]compare.Baseline, error)
	Detail(ctx context.Context, id string, ref object.Ref) (*compare.Detail, error)
	Found(ctx context.Context, id string) (map[object.Ref]*fieldpath.Set, error)
	Doing(ctx context.Context, id string) (refs map[object.Ref]bool, number int, err error)
	Removed(ctx context.Context, id, uid string) (bool, error)
	Handed(ctx context.Context, id string) (map[object.Ref]string, error)
	Keeper(ctx context.Context, cluster, notPlacement string, ref object.Ref) (string, error)
	Tasks(ctx context.Context, id string) (map[object.Ref]record.TaskObject, error)
	Canary(ctx context.Context, id string, number int) (*canary.State, error)

	LastNumber(ctx context.Context, id string) (int, error)
	Entry(ctx context.Context, id string, number int) (logbook.Entry, error)
	Entries(ctx context.Context, f record.Find) ([]logbook.Entry, int, error)
	Rejections(ctx context.Context, id string) (map[string]logbook.Rejection, error)
	Restores(ctx context.Context, id string, since time.Time) ([]logbook.Restored, error)
	Standings(ctx context.Context, id string, since time.Time) ([]logbook.Stretch, error)

	Snapshot(ctx context.Context, id string, only ...object.Ref) ([]declared.Whole, error)
	SnapshotHashes(ctx context.Context, id string) (map[object.Ref]string, error)
}

var (
	_ reach       = (*cluster.Cluster)(nil)
	_ drive.Hands = (*cluster.Cluster)(nil)
	_ ledger      = (*record.Store)(nil)
)
