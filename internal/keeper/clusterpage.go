package keeper

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
)

// ClusterPage is all that is told of one cluster, as far as somebody sees it.
type ClusterPage struct {
	Cluster
	Whole      bool // they see all of it
	Nodes      []cluster.Node
	NodesError string // why they are not known
	Owners     []OwnerHere
	Components []Component
	People     []TeamHere
	Kubeconfig bool // whoever asks can be given one
	Warnings   []WarningHere
	More       bool // there are more warnings than were read
	EventError string
}

// OwnerHere is what one owner keeps in a cluster.
type OwnerHere struct {
	Owner               string
	Wards, InStep, Loud int
}

// TeamHere is a team that may something in a cluster.
type TeamHere struct {
	Team    string
	Members grant.Members
	Verbs   []grant.Verb
	Wards   int // so many of those that are kept there
}

// WarningHere is a warning of the cluster, with the wards that its namespace is of.
type WarningHere struct {
	cluster.Event
	Wards []string
}

// unheard is said of what only the lookout of a cluster could tell.
const unheard = "Not known while its lookout is away."

// recently is how far back a cluster's page looks.
const recently = time.Hour

// ClusterPage tells of one cluster. Errors are a *Fault; what can't be read is told beside the rest.
func (k *Keeper) ClusterPage(ctx context.Context, w Who, name string) (*ClusterPage, error) {
	k.mu.RLock()
	c := k.clusters[name]
	k.mu.RUnlock()
	var kept []*standing.View
	for _, v := range k.Seen(w) {
		if v.Cluster == name {
			kept = append(kept, v)
		}
	}
	if c == nil || !w.Rights.All() && len(kept) == 0 {
		return nil, k.unseenCluster(w, name)
	}
	out := &ClusterPage{Whole: w.Rights.All()}
	var all sync.WaitGroup
	all.Go(func() {
		out.Cluster = c.info(ctx)
		out.Cluster.Wards = len(kept)
	})
	gone := c.away != nil
	if gone {
		_, here := c.away.heard()
		gone = !here
	}
	switch {
	case gone:
		out.NodesError, out.EventError = unheard, unheard
	case out.Whole:
		all.Go(func() {
			nodes, err := c.nodes(ctx)
			if out.Nodes = nodes; err != nil {
				out.NodesError = err.Error()
			}
		})
	}
	all.Go(func() {
		if gone {
			return
		}
		found, err := c.warnings(ctx, time.Now().Add(-recently))
		if err != nil {
			out.EventError = err.Error()
		}
		out.More = err == nil && !found.Whole
		for _, e := range alike(found.All) {
			if ids, sees := k.inNamespace(w, name, e.About.Namespace); sees {
				out.Warnings = append(out.Warnings, WarningHere{e, ids})
			}
		}
	})
	all.Wait()
	out.Kubeconfig = w.mayHaveKubeconfig(out.Cluster.Cluster)
	out.Owners = ownersOf(kept)
	for _, x := range k.Components(w) {
		if slices.Contains(x.Where, name) {
			out.Components = append(out.Components, x)
		}
	}
	if out.Whole {
		out.People = k.teamsIn(kept)
	} else {
		out.Cluster.Cluster.Server, out.Server, out.Context, out.Cluster.Kubeconfig = "", "", "", ""
		if out.Lookout != nil {
			out.Lookout.Refused = "" // where somebody came from is for those who have to see to it
		}
	}
	return out, nil
}

// unseenCluster is what is said of a cluster that somebody does not see: to them there is none, and no others are named.
func (k *Keeper) unseenCluster(w Who, name string) error {
	if w.Rights.All() {
		return k.unknownCluster(name)
	}
	return fault(NotFound, "there is no cluster %s that holds something of yours", name)
}

// inNamespace lists the wards that keep things in a namespace, and whether somebody sees all that goes on there.
func (k *Keeper) inNamespace(w Who, cluster, namespace string) (ids []string, sees bool) {
	sees = true
	for _, v := range k.Views() {
		if v.Cluster != cluster || v.Ward.Into.Namespace != namespace || namespace == "" {
			continue
		}
		if !w.Sees(v) {
			sees = false
			continue
		}
		ids = append(ids, v.ID)
	}
	slices.Sort(ids)
	return ids, w.Rights.All() || sees && len(ids) > 0
}

func ownersOf(kept []*standing.View) []OwnerHere {
	by := map[string]*OwnerHere{}
	for _, v := range kept {
		o := by[v.Ward.Owner]
		if o == nil {
			o = &OwnerHere{Owner: v.Ward.Owner}
			by[v.Ward.Owner] = o
		}
		o.Wards++
		if v.Standing == compare.InStep {
			o.InStep++
		}
		if v.NeedsYou {
			o.Loud++
		}
	}
	var out []OwnerHere
	for _, o := range by {
		out = append(out, *o)
	}
	slices.SortFunc(out, func(a, b OwnerHere) int {
		return cmp.Or(b.Loud-a.Loud, b.Wards-a.Wards, strings.Compare(a.Owner, b.Owner))
	})
	return out
}

// teamsIn are the teams that may something to wards of a cluster.
func (k *Keeper) teamsIn(kept []*standing.View) (out []TeamHere) {
	for _, t := range k.Teams() {
		here := TeamHere{Team: t.Name, Members: t.Members}
		touched := map[string]bool{}
		may := map[grant.Verb]bool{}
		for _, g := range t.May {
			for _, v := range kept {
				if !g.Covers(grant.See, ThingOf(v)) {
					continue
				}
				touched[v.ID] = true
				for _, verb := range g.Do {
					may[verb] = true
				}
			}
		}
		for _, x := range grant.About {
			if may[x.Verb] {
				here.Verbs = append(here.Verbs, x.Verb)
			}
		}
		if here.Wards = len(touched); here.Wards > 0 {
			out = append(out, here)
		}
	}
	return out
}

// alike makes one of warnings that say the same of the same: the newest, with how often they were told together.
func alike(all []cluster.Event) (out []cluster.Event) {
	type said struct {
		about        object.Ref
		reason, text string
	}
	at := map[said]int{}
	for _, e := range all {
		key := said{e.About, e.Reason, e.Text}
		if i, known := at[key]; known {
			out[i].Count += e.Count
			continue
		}
		at[key] = len(out)
		out = append(out, e)
	}
	return out
}
