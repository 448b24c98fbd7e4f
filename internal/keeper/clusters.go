package keeper

import (
	"context"
	"maps"
	"slices"
	"sort"
	"sync"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// Cluster is a known cluster as it was last seen.
type Cluster struct {
	record.Cluster
	Server  string
	Version string
	Wards   int
	Live    standing.AsOf
}

// checkCluster refuses what a cluster can't be like, whoever says so.
func checkCluster(c record.Cluster) error {
	if err := ward.Name(c.Name); err != nil {
		return fault(Invalid, "name: %v", err)
	}
	for name, url := range c.Links {
		if err := ward.Link(url); err != nil {
			return fault(Invalid, "links.%s: %v", name, err)
		}
	}
	return nil
}

func (k *Keeper) addCluster(ctx context.Context, c record.Cluster) (Cluster, error) {
	if err := checkCluster(c); err != nil {
		return Cluster{}, err
	}
	if c.Labels == nil {
		c.Labels = map[string]string{}
	}
	k.mu.RLock()
	old := k.clusters[c.Name]
	k.mu.RUnlock()
	if old != nil {
		was := old.record()
		if c.Kubeconfig == "" && c.KubeconfigText == "" && c.Server == "" && !c.InCluster { // only labels and links change
			c.Kubeconfig, c.KubeconfigText, c.Context, c.Server, c.Token, c.CA, c.InCluster = was.Kubeconfig, was.KubeconfigText, was.Context, was.Server, was.Token, was.CA, was.InCluster
		} else if c.Server != "" && c.Token == "" && c.Server == was.Server {
			c.Token = was.Token
		}
		c.Roster, c.People = was.Roster, was.People
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
	anew := old != nil && k.clusterConfig(old.record()) != k.clusterConfig(c)
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
		if err := k.replace(ctx, c.Name); err != nil {
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
	n := 0
	for _, p := range k.wards {
		if p.cluster.conf.Name == clusterName {
			n++
		}
	}
	return n
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
	k.mu.Unlock()
	c.close()
	k.broker.send(Note{"cluster", name})
	return nil
}

func (k *Keeper) unknownCluster(name string) *Fault {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return unknown("cluster", name, slices.Collect(maps.Keys(k.clusters)), "vigila cluster add NAME --kubeconfig FILE")
}
