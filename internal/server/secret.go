package server

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// ListStores is GET /stores.
func (s *server) ListStores(c *gin.Context, q ListStoresParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Store{}
	for _, x := range s.Keeper.ValueStores() {
		if holds(q.Search, x.Name, x.Kind, x.About, x.URL, x.Cluster, x.Repo) {
			items = append(items, storeOf(x))
		}
	}
	c.JSON(http.StatusOK, StoreList{Total: len(items), Items: slice(items, limit, offset)})
}

func storeOf(x keeper.ValueStore) Store {
	out := Store{Name: x.Name, Form: x.Kind, About: x.About, Roster: x.Roster, Url: x.URL, Mount: x.Mount, SignIn: x.SignIn, RoleId: x.Role, Cluster: x.Cluster, Namespace: x.Namespace, Repo: x.Repo, Ref: x.Ref, Directory: x.Dir, ForWards: x.Wards, ForOwners: x.Owners, ForClusters: x.Clusters, ForRosters: x.Rosters,
		EverySeconds: int(x.Every.Seconds()), Looked: x.Looked, Next: x.Next, Problem: x.Problem, Missing: x.Missing, UsedBy: x.Used}
	if out.UsedBy == nil {
		out.UsedBy = []string{}
	}
	return out
}

// AddStore is POST /stores.
func (s *server) AddStore(c *gin.Context) {
	in, ok := body[AddStore](c)
	if !ok {
		return
	}
	answer(s, c, storeOf)(do(s, c, keeper.AddStore{ValueStore: record.ValueStore{Name: in.Name, Secret: in.Token, ValueStoreMore: record.ValueStoreMore{Kind: in.Form, About: in.About, Every: time.Duration(in.EverySeconds) * time.Second,
		URL: in.Url, Mount: in.Mount, CA: in.Ca, Space: in.Space, SignIn: in.SignIn, At: in.SignInAt, Role: in.RoleId, Cluster: in.Cluster, Namespace: in.Namespace, Repo: in.Repo, Ref: in.Ref, Dir: in.Directory,
		Wards: in.ForWards, Owners: in.ForOwners, Clusters: in.ForClusters, Rosters: in.ForRosters}}}))
}

// RemoveStore is DELETE /stores/{name}.
func (s *server) RemoveStore(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveStore{Name: name})
}

// TryStore is POST /stores/{name}/try.
func (s *server) TryStore(c *gin.Context, name ItemName) {
	err := s.Keeper.TryStore(c.Request.Context(), name)
	if err != nil {
		s.fail(c, err)
		return
	}
	x, err := s.Keeper.ValueStore(name)
	answer(s, c, storeOf)(x, err)
}

// ListSecrets is GET /secrets.
func (s *server) ListSecrets(c *gin.Context, q ListSecretsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	out := SecretList{Items: []Secret{}}
	for _, u := range s.Keeper.SeenSecrets(who(c)) {
		if u.State == keeper.SecretMissing {
			out.Missing++
		}
		if (q.Store == "" || u.Ref.Store == q.Store) && (!q.Missing || u.State == keeper.SecretMissing) && holds(q.Search, append([]string{u.Ref.Short(), string(u.State)}, u.Objects...)...) {
			out.Items = append(out.Items, secretOf(u))
		}
	}
	out.Total = len(out.Items)
	out.Items = slice(out.Items, limit, offset)
	c.JSON(http.StatusOK, out)
}

func secretOf(u keeper.SecretUse) Secret {
	out := Secret{Reference: u.Ref.Short(), Store: u.Ref.Store, Path: u.Ref.Path, Key: u.Ref.Key, Says: string(u.State), Reason: u.Why, SetBy: u.SetBy, Version: u.Version, NeedsYou: u.State == keeper.SecretMissing || u.State == keeper.SecretRefused,
		UsedBy: u.Wards, ObjectsUsing: u.Objects}
	if out.UsedBy == nil {
		out.UsedBy, out.ObjectsUsing = []string{}, []string{}
	}
	return out
}

// SetSecret is POST /secrets.
func (s *server) SetSecret(c *gin.Context) {
	in, ok := body[SetSecret](c)
	if !ok {
		return
	}
	ref, err := secret.Parse(in.Reference)
	if err != nil {
		s.fail(c, &keeper.Fault{Kind: keeper.Invalid, Text: err.Error()})
		return
	}
	answer(s, c, secretOf)(do(s, c, keeper.SetSecret{Ref: ref, Value: in.Value, OnlyNew: in.OnlyNew}))
}
