package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"time"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/server"
)

// nowhere is a kubeconfig for an address where nobody answers.
const nowhere = "apiVersion: v1\nkind: Config\ncurrent-context: quay\nclusters: [{name: quay, cluster: {server: 'https://127.0.0.1:1'}}]\ncontexts: [{name: quay, context: {cluster: quay, user: u}}]\nusers: [{name: u, user: {token: t}}]\n"

// team asks for the 1,000 wards that a team of twenty grants sees among 10,000, and for the same by an operator, turn by turn.
func team(ctx context.Context) (row, error) {
	const all, every, grants, rounds = 10_000, 10, 20, 100
	r := row{name: "team", what: fmt.Sprintf("a list of %d of %d wards by a member of a team of %d grants", all/every, all, grants), against: "the same list by an operator", goal: "within 1.1 times"}
	dir, err := os.MkdirTemp("", "vigila-bench-")
	if err != nil {
		return r, err
	}
	defer os.RemoveAll(dir)
	store, err := record.Open(ctx, filepath.Join(dir, "data"))
	if err != nil {
		return r, err
	}
	defer store.Close()
	err = store.PutRepo(ctx, record.Repo{Name: "moorings", URL: "file://" + filepath.Join(dir, "origin")})
	if err == nil {
		err = store.PutCluster(ctx, record.Cluster{Name: "quay", KubeconfigText: nowhere})
	}
	for i := 0; i < all && err == nil; i++ {
		owner := "signals"
		if i%every == 0 {
			owner = "ticketing"
		}
		name := fmt.Sprintf("ward-%d", i)
		err = store.PutWard(ctx, record.Ward{Name: name, File: fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nabout: One of many.\nowner: %[2]s\nfrom: {repo: moorings, path: app-%[1]s}\ninto: {cluster: quay, namespace: %[1]s}\n", name, owner)}, []string{"quay"})
	}
	if err != nil {
		return r, err
	}
	var may []grant.Grant
	for i := range grants - 1 {
		may = append(may, grant.Grant{Do: []grant.Verb{grant.Sync}, Wards: document.Wards{Owners: []string{fmt.Sprintf("crew-%d", i)}, Clusters: []string{"quay"}}})
	}
	may = append(may, grant.Grant{Do: []grant.Verb{grant.See}, Wards: document.Wards{Owners: []string{"ticketing"}}})
	operator, one := keeper.NewToken()
	member, other := keeper.NewToken()
	if err := store.AddToken(ctx, one, record.Token{Name: "operator", Role: "operator"}); err != nil {
		return r, err
	}
	if err := store.AddToken(ctx, other, record.Token{Name: "member", May: may}); err != nil {
		return r, err
	}
	k, err := keeper.New(ctx, store, keeper.Options{MirrorDir: filepath.Join(dir, "mirrors"), AllowLocalRepos: true}, slog.New(slog.DiscardHandler))
	if err != nil {
		return r, err
	}
	defer k.Close()
	h := httptest.NewServer(server.New(server.Options{Keeper: k, Version: "bench", Log: slog.New(slog.DiscardHandler), Ending: make(chan struct{})}))
	defer h.Close()
	ask := func(token string) (time.Duration, error) {
		began := time.Now()
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, h.URL+"/api/v1/wards?owner=ticketing&limit=1000", nil)
		if err != nil {
			return 0, err
		}
		q.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(q)
		if err != nil {
			return 0, err
		}
		defer answer.Body.Close()
		if n, err := io.Copy(io.Discard, answer.Body); err != nil || answer.StatusCode != http.StatusOK || n < all/every*100 {
			return 0, fmt.Errorf("a list of %d bytes: %s (%w)", n, answer.Status, err)
		}
		return time.Since(began), nil
	}
	var ours, theirs time.Duration
	for i := range rounds + 20 { // the first ones are no measure: every ward still looks for what can't be reached
		m, err := ask(member)
		if err != nil {
			return r, err
		}
		o, err := ask(operator)
		if err != nil {
			return r, err
		}
		if i >= 20 {
			ours, theirs = ours+m, theirs+o
		}
	}
	ratio := float64(ours) / float64(theirs)
	r.ours, r.limit = fmt.Sprintf("%.1f ms", float64(ours.Microseconds())/1000/rounds), fmt.Sprintf("%.1f ms", float64(theirs.Microseconds())/1000/rounds)
	r.verdict, r.met = fmt.Sprintf("%.2f times", ratio), ratio <= 1.1
	r.how = "Both ask the service on loopback, by turns, a hundred times each: whole answers of a thousand wards. The wards' repository and cluster are not there, so that nothing but lists is measured."
	return r, nil
}
