package server

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// GetCluster is GET /clusters/{name}.
func (s *server) GetCluster(c *gin.Context, name ItemName) {
	answer(s, c, func(x *keeper.ClusterPage) ClusterPage {
		out := ClusterPage{ClusterOf: clusterOf(x.Cluster), Whole: x.Whole, Machines: []Machine{}, KubeconfigForYou: x.Kubeconfig, MachinesUnknown: x.NodesError, KeptBy: []OwnerHere{}, Switchable: []Component{}, People: []TeamHere{}, Warnings: []ClusterWarning{}, MoreWarnings: x.More, WarningsUnknown: x.EventError}
		for _, n := range x.Nodes {
			out.Machines = append(out.Machines, Machine{Name: n.Name, Up: n.Ready, Closed: n.Closed, Says: n.Says, Version: n.Version, Since: n.Since, Millicores: n.CPU, Bytes: n.Memory, PodRoom: n.Pods})
		}
		for _, o := range x.Owners {
			out.KeptBy = append(out.KeptBy, OwnerHere{Owner: o.Owner, Wards: o.Wards, InStep: o.InStep, NeedYou: o.Loud})
		}
		for _, x := range x.Components {
			out.Switchable = append(out.Switchable, s.componentOf(c, x))
		}
		for _, t := range x.People {
			one := TeamHere{Team: t.Team, Members: []string{}, Verbs: []Verb{}, Wards: t.Wards}
			for _, g := range t.Members.Groups {
				one.Members = append(one.Members, "group:"+g)
			}
			for _, u := range t.Members.Users {
				one.Members = append(one.Members, "user:"+u)
			}
			for _, v := range t.Verbs {
				one.Verbs = append(one.Verbs, Verb(v))
			}
			out.People = append(out.People, one)
		}
		for _, e := range x.Warnings {
			one := ClusterWarning{At: e.At, Kind: e.About.Kind, Namespace: e.About.Namespace, Name: e.About.Name, Reason: e.Reason, Text: e.Text, Times: e.Count, OfWards: e.Wards}
			if one.OfWards == nil {
				one.OfWards = []string{}
			}
			out.Warnings = append(out.Warnings, one)
		}
		return out
	})(s.Keeper.ClusterPage(c, who(c), name))
}

// ListNewClusters is GET /new-clusters.
func (s *server) ListNewClusters(c *gin.Context) {
	out := NewClusterList{Items: []NewCluster{}}
	for _, n := range s.Keeper.NewClusters(c, who(c)) {
		out.Items = append(out.Items, NewCluster{Name: n.Name, Ward: n.Ward, Namespace: n.Namespace, Answers: n.Ready, Says: n.Says, Labels: n.Labels, Links: n.Links})
	}
	c.JSON(http.StatusOK, out)
}

// GetKubeconfig is GET /clusters/{name}/kubeconfig.
func (s *server) GetKubeconfig(c *gin.Context, name ItemName) {
	answer(s, c, func(text string) OwnKubeconfig { return OwnKubeconfig{OwnKubeconfig: text} })(s.Keeper.Kubeconfig(c, who(c), name))
}

// SetClusterSignIn is PUT /clusters/{name}/sign-in.
func (s *server) SetClusterSignIn(c *gin.Context, name ItemName) {
	if in, ok := body[ClusterSignIn](c); ok {
		answer(s, c, clusterOf)(do(s, c, keeper.SetClusterSignIn{Cluster: name, TakesPeople: record.TakesPeople{Provider: in.Provider, Client: in.ClientId}}))
	}
}
