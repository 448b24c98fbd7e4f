// Package provider says who people are in the lab: OpenID Connect as github.com/zitadel/oidc/v3 serves it, with the people of the demo, who sign in by being chosen.
// Nobody real can sign in, and nothing in it is secret.
package provider

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"html/template"
	"io"
	"log/slog"
	"net"
	"net/http"

	"github.com/zitadel/oidc/v3/example/server/storage"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"
	"golang.org/x/text/language"
)

// Client is what the provider knows Vigila by.
const Client = "vigila"

// Clusters is what it knows command lines by that sign in to the lab's API servers: a public client.
const Clusters = "kubernetes"

// password is everybody's: the page sends it.
const password = "chosen"

// Person is somebody whom the provider knows.
type Person struct {
	Name     string // before the @
	Groups   []string
	Verified bool // whether the mail address is
}

// People are those of the demo.
var People = []Person{
	{"admin", []string{"platform"}, true}, {"operator", []string{"harbour-ops"}, true}, {"reader", []string{"ticketing"}, true}, {"signals", []string{"signals"}, true}, {"visitor", nil, true},
	{"newcomer", []string{"ticketing"}, false},
}

const domain = "brindle.example"

// Mail is somebody's address.
func (p Person) Mail() string { return p.Name + "@" + domain }

// users are people as the library asks for them.
type users struct{}

func (users) ExampleClientID() string { return "unused" }

func (users) GetUserByID(id string) *storage.User {
	for _, p := range People {
		if p.Name == id {
			return &storage.User{ID: p.Name, Username: p.Name, Password: password, FirstName: p.Name, LastName: "of Brindle", Email: p.Mail(), EmailVerified: p.Verified, PreferredLanguage: language.English}
		}
	}
	return nil
}

func (u users) GetUserByUsername(name string) *storage.User { return u.GetUserByID(name) }

// store is the library's, with groups, and with Vigila at any port of this machine.
type store struct{ *storage.Storage }

func groups(info *oidc.UserInfo, subject string) {
	for _, p := range People {
		if p.Name == subject {
			info.AppendClaims("groups", append([]string{}, p.Groups...))
		}
	}
}

// SetUserinfoFromRequest says who somebody is in an id token.
func (s store) SetUserinfoFromRequest(ctx context.Context, info *oidc.UserInfo, token op.IDTokenRequest, scopes []string) error {
	groups(info, token.GetSubject())
	return s.Storage.SetUserinfoFromRequest(ctx, info, token, scopes)
}

// SetUserinfoFromToken says who somebody is at the userinfo endpoint.
func (s store) SetUserinfoFromToken(ctx context.Context, info *oidc.UserInfo, tokenID, subject, origin string) error {
	groups(info, subject)
	return s.Storage.SetUserinfoFromToken(ctx, info, tokenID, subject, origin)
}

// GetClientByClientID knows Vigila.
func (s store) GetClientByClientID(ctx context.Context, id string) (op.Client, error) {
	c, err := s.Storage.GetClientByClientID(ctx, id)
	if err != nil {
		return nil, err
	}
	return client{c}, nil
}

type client struct{ op.Client }

// RedirectURIGlobs are where people may be sent back to, as path.Match reads them.
func (client) RedirectURIGlobs() []string {
	return []string{"http://127.0.0.1:*/sign-in/back", "http://127.0.0.1:*/back"}
}

// PostLogoutRedirectURIGlobs are none.
func (client) PostLogoutRedirectURIGlobs() []string { return nil }

// IDTokenUserinfoClaimsAssertion puts who it is into the id token.
func (client) IDTokenUserinfoClaimsAssertion() bool { return true }

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Sign in · Brindle Sound Ferries</title>
<style>body{font:16px/1.5 system-ui;max-width:26rem;margin:12vh auto;padding:0 1rem}button{font:inherit;display:block;width:100%;text-align:left;margin:.4rem 0;padding:.5rem .8rem;border:1px solid #999;border-radius:.4rem;background:#fff;cursor:pointer}small{color:#666}</style>
<h1>Brindle Sound Ferries</h1><p>The lab's sign-in. Who are you?</p>
<form method="post"><input type="hidden" name="id" value="{{.ID}}">
{{range .People}}<button name="who" value="{{.Name}}">{{.Mail}} <small>{{range .Groups}}{{.}} {{else}}in no group{{end}}</small></button>{{end}}</form>`))

// Server is one that runs.
type Server struct {
	URL  string // of the issuer
	http *http.Server
}

// Start serves on loopback; port 0 takes any. The client's secret is the given one. With a certificate it speaks TLS, as API servers want it.
func Start(port int, secret string, own *tls.Certificate) (*Server, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, fmt.Errorf("the lab's provider: %w", err)
	}
	s := &Server{URL: "http://" + l.Addr().String()}
	if own != nil {
		s.URL = "https://" + l.Addr().String()
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{*own}})
	}
	web := storage.WebClient(Client, secret, s.URL+"/nowhere")
	all := store{storage.NewStorageWithClients(users{}, map[string]*storage.Client{Client: web, Clusters: storage.NativeClient(Clusters, "http://127.0.0.1/nowhere")})}
	p, err := op.NewProvider(&op.Config{CryptoKey: sha256.Sum256([]byte(secret)), CodeMethodS256: true, AuthMethodPost: true, SupportedScopes: []string{"openid", "profile", "email", "groups"}}, all, op.StaticIssuer(s.URL),
		op.WithAllowInsecure(), op.WithLogger(slog.New(slog.NewTextHandler(io.Discard, nil))))
	if err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("the lab's provider: %w", err)
	}
	back := op.AuthCallbackURL(p)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /login/username", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = page.Execute(w, map[string]any{"ID": r.FormValue("authRequestID"), "People": People}) // a browser that has left
	})
	mux.Handle("POST /login/username", op.NewIssuerInterceptor(p.IssuerFromRequest).HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := r.FormValue("id")
		if err := all.CheckUsernamePassword(r.FormValue("who"), password, id); err != nil {
			http.Error(w, err.Error(), http.StatusForbidden)
			return
		}
		http.Redirect(w, r, back(r.Context(), id), http.StatusFound)
	}))
	mux.Handle("/", p)
	s.http = &http.Server{Handler: mux}
	go func() { _ = s.http.Serve(l) }() // ends with Close
	return s, nil
}

// Close stops it.
func (s *Server) Close() { _ = s.http.Close() }
