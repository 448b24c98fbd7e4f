package keeper

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"reflect"
	"slices"
	"sort"
	"sync"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
)

// Cluster is a known cluster as it was last seen.
type Cluster struct {
	record.Cluster
	Server  string
	Version string
	Wards   int
	Live    standing.AsOf
	Lookout *Lookout // nil for a cluster that the service reaches itself
}

// checkCluster refuses what a cluster can't be like, whoever says so.
func checkCluster(c record.Cluster) error {
	if err := ward.Name(c.Name); err != nil {
		return fault(Invalid, "name: %v", err)
	}
	for _, n := range append(slices.Clone(c.Only), c.May...) {
		if err := ward.Name(n); err != nil {
			return fault(Invalid, "namespaces: %v", err)
		}
	}
	for name, url := range c.Links {
		if err := ward.Link(url); err != nil {
			return fault(Invalid, "links.%s: %v", name, err)
		}
	}
	return nil
}

// only is which namespaces of a cluster can be looked into: those that somebody says, all of them where that is *, and those of before where nobody says any.
func only(said, was []string) []string {
	switch {
	case slices.Equal(said, []string{"*"}):
		return nil
	case len(said) == 0:
		return was
	}
	return slices.Compact(slices.Sorted(slices.Values(said)))
}

// heldTo is what somebody says of a cluster, beside how it is reached, over what was said of it before: what they leave out stays. old is nil for a
// new one. Labels that a roster declares are changed there.
func (k *Keeper) heldTo(c record.Cluster, old *clusterLoop) (record.Cluster, error) {
	var was record.Cluster
	if old != nil {
		was = old.record()
	}
	if k.declaredBy(was.Roster, "") && c.Labels != nil && !maps.Equal(c.Labels, was.Labels) {
		return c, fault(Conflict, "the labels of cluster %s are declared by roster %s; change them there", c.Name, was.Roster)
	}
	c.Roster, c.People, c.May, c.Only, c.About = was.Roster, was.People, was.May, only(c.Only, was.Only), cmp.Or(c.About, was.About)
	if c.Labels == nil {
		c.Labels = was.Labels
	}
	if c.Labels == nil {
		c.Labels = map[string]string{}
	}
	if c.Links == nil {
		c.Links = was.Links
	}
	return c, checkCluster(c)
}

// heldNow is heldTo once nobody else changes anything: a roster may have bounded the cluster while it was asked whether it answers.
func (k *Keeper) heldNow(asked, c record.Cluster, old *clusterLoop) (record.Cluster, error) {
	if k.clusterNamed(c.Name) != old {
		return c, fault(Conflict, "cluster %s was changed meanwhile; say it again", c.Name)
	}
	now, err := k.heldTo(asked, old)
	c.Roster, c.People, c.May, c.Only, c.About, c.Labels, c.Links = now.Roster, now.People, now.May, now.Only, now.About, now.Labels, now.Links
	return c, err
}

// placeAnew places wards anew after a cluster came or its labels changed: a ward in the middle of a run once that has ended, which busy tells.
func (k *Keeper) placeAnew(ctx context.Context, cluster string) (busy bool, err error) {
	err = k.replace(ctx, cluster)
	var f *Fault
	if errors.As(err, &f) && f.Kind == Conflict { // what was said of the cluster holds already
		k.later(func() error { return k.replace(k.ctx, cluster) })
		return true, nil
	}
	return false, err
}

// boundAnew has what is declared in a cluster held against the namespaces that objects may be kept in by now.
func (k *Keeper) boundAnew(cluster string) {
	for _, p := range k.keptIn(cluster) {
		p.post(loop.Forgotten{AsOf: standing.AsOf{Known: true, At: time.Now()}})
	}
}

func (k *Keeper) addCluster(ctx context.Context, c record.Cluster) (Cluster, error) {
	k.mu.RLock()
	old := k.clusters[c.Name]
	k.mu.RUnlock()
	asked := c
	c, err := k.heldTo(c, old)
	if err != nil {
		return Cluster{}, err
	}
	if old != nil {
		was := old.record()
		if c.Kubeconfig == "" && c.KubeconfigText == "" && c.Server == "" && !c.InCluster { // only labels and links change
			c.Kubeconfig, c.KubeconfigText, c.Context, c.Server, c.Token, c.CA, c.InCluster = was.Kubeconfig, was.KubeconfigText, was.Context, was.Server, was.Token, was.CA, was.InCluster
		} else if c.Server != "" && c.Token == "" && c.Server == was.Server {
			c.Token = was.Token
		}
		if old.away != nil && !reached(c) {
			return k.relabel(ctx, old, asked, c)
		}
	}
	conn, err := cluster.Connect(k.clusterConfig(c), k.log)
	if err != nil {
		return Cluster{}, fault(Invalid, "%v", err)
	}
	defer conn.Close()
	if _, err := conn.Version(ctx); err != nil {
		return Cluster{}, fault(Unreachable, "%v", err)
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	if c, err = k.heldNow(asked, c, old); err != nil {
		return Cluster{}, err
	}
	anew := old != nil && !reflect.DeepEqual(k.clusterConfig(old.record()), k.clusterConfig(c))
	if n := k.wardsIn(c.Name); anew && n > 0 && old.conn != nil && old.conn.Server() != conn.Server() {
		return Cluster{}, fault(Conflict, "cluster %s is at %s and keeps %d wards; it can be at another address only when it keeps none. Credentials may change at any time", c.Name, old.conn.Server(), n)
	}
	if anew {
		if err := k.idle(k.keptIn(c.Name)); err != nil {
			return Cluster{}, err
		}
	}
	if err := k.store.PutCluster(ctx, c); err != nil {
		return Cluster{}, err
	}
	if err := k.endLookout(ctx, old); err != nil {
		return Cluster{}, err
	}
	changed := old == nil || anew || !maps.Equal(old.labels(), c.Labels)
	switch {
	case anew:
		old.close()
		k.openCluster(c)
		if err := k.reconnect(ctx, c.Name); err != nil {
			return Cluster{}, err
		}
	case old == nil:
		k.openCluster(c)
	default:
		k.mu.Lock()
		old.conf = c
		k.mu.Unlock()
	}
	if changed {
		if _, err := k.placeAnew(ctx, c.Name); err != nil {
			return Cluster{}, err
		}
		k.nudgeRosters()
	}
	k.broker.send(Note{"cluster", c.Name})
	for _, x := range k.Clusters(ctx) {
		if x.Name == c.Name {
			return x, nil
		}
	}
	return Cluster{}, fault(NotFound, "cluster %s is gone", c.Name)
}

// endLookout ends that a cluster is kept by a lookout: the service reaches it itself from now on.
func (k *Keeper) endLookout(ctx context.Context, c *clusterLoop) error {
	if c == nil || c.away == nil {
		return nil
	}
	if err := k.store.RemoveLookout(ctx, c.away.name); err != nil {
		return err
	}
	k.mu.Lock()
	delete(k.lookouts, c.away.name)
	k.mu.Unlock()
	c.away.end("the cluster is reached by the service itself now")
	return nil
}

// reached tells whether it is said how a cluster is reached.
func reached(c record.Cluster) bool {
	return c.Kubeconfig != "" || c.KubeconfigText != "" || c.Server != "" || c.InCluster
}

// relabel changes labels, links and what a cluster of a lookout is.
func (k *Keeper) relabel(ctx context.Context, old *clusterLoop, asked, c record.Cluster) (Cluster, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	c, err := k.heldNow(asked, c, old)
	if err != nil {
		return Cluster{}, err
	}
	if err := k.store.PutCluster(ctx, c); err != nil {
		return Cluster{}, err
	}
	changed := !maps.Equal(old.labels(), c.Labels)
	bound := !slices.Equal(old.record().Only, c.Only)
	k.mu.Lock()
	old.conf = c
	k.mu.Unlock()
	if changed {
		old.away.tell("labels", c.Labels)
		if _, err := k.placeAnew(ctx, c.Name); err != nil {
			return Cluster{}, err
		}
		k.nudgeRosters()
	}
	if bound {
		k.boundAnew(c.Name)
	}
	k.broker.send(Note{"cluster", c.Name})
	return old.info(ctx), nil
}

// AddLookout lets a lookout join: a new cluster that only it reaches, or a known one that it keeps from now on. Whoever has the token that is
// the answer can join with it once, within its time; a token of before is good no more.
type AddLookout struct {
	Name, About   string
	Labels, Links map[string]string
	Only          []string // the namespaces that the lookout may keep objects in
}

// Join is what a lookout joins with.
type Join struct {
	Cluster, Token, Key string
	Until               time.Time
	Only                []string // the namespaces that it is to be run with
}

// joinFor is how long a token to join with is good.
const joinFor = time.Hour

func (w AddLookout) Subject() Subject { return Subject{"add", "lookout", w.Name} }

func (w AddLookout) do(ctx context.Context, k *Keeper, _ Actor) (Join, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	old := k.clusterNamed(w.Name)
	c, err := k.heldTo(record.Cluster{Name: w.Name, Labels: w.Labels, ClusterMore: record.ClusterMore{Links: w.Links, About: w.About, Only: w.Only}}, old)
	if err != nil {
		return Join{}, err
	}
	if old != nil {
		if err := k.idle(k.keptIn(w.Name)); err != nil {
			return Join{}, err
		}
	}
	key, err := k.LookoutKey(ctx)
	if err != nil {
		return Join{}, err
	}
	if err := k.store.PutCluster(ctx, c); err != nil {
		return Join{}, err
	}
	token, hash := NewToken()
	l := record.Lookout{Cluster: w.Name, Token: hash, Until: time.Now().Add(joinFor)}
	if err := k.store.PutLookout(ctx, l); err != nil {
		return Join{}, err
	}
	k.mu.Lock()
	k.lookouts[w.Name] = l
	k.mu.Unlock()
	if old != nil {
		if old.away != nil {
			old.away.end("another lookout is to keep the cluster")
		}
		old.close()
	}
	k.openCluster(c)
	if old != nil {
		if err := k.reconnect(ctx, w.Name); err != nil {
			return Join{}, err
		}
	}
	if _, err := k.placeAnew(ctx, w.Name); err != nil {
		return Join{}, err
	}
	k.nudgeRosters()
	k.broker.send(Note{"cluster", w.Name})
	return Join{w.Name, token, key.Name(), l.Until, c.Only}, nil
}

// Clusters lists the known clusters by name.
func (k *Keeper) Clusters(ctx context.Context) []Cluster {
	k.mu.RLock()
	loops := make([]*clusterLoop, 0, len(k.clusters))
	for _, c := range k.clusters {
		loops = append(loops, c)
	}
	k.mu.RUnlock()
	out := make([]Cluster, len(loops))
	var wg sync.WaitGroup
	for i, c := range loops {
		wg.Go(func() {
			out[i] = c.info(ctx)
			out[i].Wards = k.wardsIn(c.conf.Name)
		})
	}
	wg.Wait()
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

func (k *Keeper) wardsIn(clusterName string) int {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return len(k.kept.in[clusterName])
}

func (k *Keeper) removeCluster(ctx context.Context, name string) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.RLock()
	c := k.clusters[name]
	k.mu.RUnlock()
	if c == nil {
		return k.unknownCluster(name)
	}
	if n := k.wardsIn(name); n > 0 {
		return fault(Conflict, "cluster %s keeps %d wards; remove them first", name, n)
	}
	if err := k.store.RemoveCluster(ctx, name); err != nil {
		return err
	}
	k.mu.Lock()
	delete(k.clusters, name)
	delete(k.lookouts, name)
	k.mu.Unlock()
	if c.away != nil {
		c.away.end("the cluster is not kept any more")
	}
	c.close()
	k.broker.send(Note{"cluster", name})
	return nil
}

func (k *Keeper) unknownCluster(name string) *Fault {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return unknown("cluster", name, slices.Collect(maps.Keys(k.clusters)), "vigila cluster add NAME --kubeconfig FILE")
}
