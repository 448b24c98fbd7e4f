// Package signin asks a provider who somebody is: OpenID Connect Core 1.0, the authorization code flow with PKCE (RFC 7636). Start with Discover.
package signin

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/loopback"
)

// Bounds of what a provider may make of the service.
const (
	within    = 10 * time.Second // of each request
	maxAnswer = 1 << 20          // bytes
	maxGroups = 2000
	maxName   = 250 // bytes, of a name and of a group
)

// Config is how a provider is asked.
type Config struct {
	Name   string // of the provider, as people know it
	Issuer string
	Client string
	Secret string // "" for a public client
	Back   string // address to which people are sent back
	CA     string // PEM, in place of the system's
	Scopes []string
	Names  string // the claim that people are called by; "" is email when it is verified, or else sub
	Groups string // the claim that lists their groups; "" is groups
}

// Check tells what is wrong with it, without asking anybody.
func (c Config) Check() error {
	u, err := url.Parse(c.Issuer)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.RawQuery != "" || u.Fragment != "" || u.User != nil:
		return fmt.Errorf("issuer: %q is no address of a provider; write it as the provider does, such as https://sign-in.brindle.example", c.Issuer)
	case loopback.InTheClear(c.Issuer):
		return fmt.Errorf("issuer: %s can be changed on its way; providers speak HTTPS", c.Issuer)
	case c.Client == "":
		return errors.New("client: write the id that the provider knows Vigila by")
	}
	if c.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(c.CA)) {
		return errors.New("ca: there is no certificate in it (PEM)")
	}
	return nil
}

// Provider is one that has said where it is asked what.
type Provider struct {
	conf   Config
	client *http.Client
	oidc   *oidc.Provider
}

// Discover asks a provider where it is asked what (OpenID Connect Discovery 1.0). Errors say what to look at.
func Discover(ctx context.Context, c Config) (*Provider, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: within, MaxIdleConns: 4, IdleConnTimeout: time.Minute} // the default one may be no such thing
	if c.CA != "" {
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM([]byte(c.CA))
		t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	client := &http.Client{Transport: bounded.Transport(t, maxAnswer), Timeout: within, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	// The provider's keys are asked for with this context later on, so it must not end with the one that asks now.
	lasting := oidc.ClientContext(context.WithoutCancel(ctx), client)
	p, err := oidc.NewProvider(lasting, c.Issuer)
	if err != nil {
		return nil, fmt.Errorf("provider %s can't be asked at %s/.well-known/openid-configuration: %s", c.Name, strings.TrimSuffix(c.Issuer, "/"), brief(err))
	}
	for what, at := range map[string]string{"authorization_endpoint": p.Endpoint().AuthURL, "token_endpoint": p.Endpoint().TokenURL} {
		if u, err := url.Parse(at); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || loopback.InTheClear(at) {
			return nil, fmt.Errorf("provider %s says that its %s is %q, which is no address that can be used; it speaks HTTPS", c.Name, what, at)
		}
	}
	return &Provider{c, client, p}, nil
}

// brief is an error without the page that a server may have answered with.
func brief(err error) string {
	text, _, _ := strings.Cut(err.Error(), "\n")
	return bounded.Text(text)
}

// Flow is one way to the provider and back. It is secret: whoever has it can end the sign-in that it began.
type Flow struct {
	Provider string    `json:"provider"`
	State    string    `json:"state"`
	Nonce    string    `json:"nonce"`
	Verifier string    `json:"verifier"`
	To       string    `json:"to"` // path in the console that was asked for
	Made     time.Time `json:"made"`
}

// Begin makes a flow, and the address that the browser is sent to.
func (p *Provider) Begin(to string, now time.Time) (Flow, string) {
	f := Flow{Provider: p.conf.Name, State: random(), Nonce: random(), Verifier: oauth2.GenerateVerifier(), To: to, Made: now}
	return f, p.oauth().AuthCodeURL(f.State, oidc.Nonce(f.Nonce), oauth2.S256ChallengeOption(f.Verifier))
}

func random() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails
	return base64.RawURLEncoding.EncodeToString(b)
}

func (p *Provider) oauth() *oauth2.Config {
	return &oauth2.Config{ClientID: p.conf.Client, ClientSecret: p.conf.Secret, RedirectURL: p.conf.Back, Endpoint: p.oidc.Endpoint(), Scopes: append([]string{oidc.ScopeOpenID, "profile", "email"}, p.conf.Scopes...)}
}

// Same tells whether a state that came back is the flow's, in a time that says nothing of how much of it is.
func (f Flow) Same(state string) bool {
	return f.State != "" && subtle.ConstantTimeCompare([]byte(f.State), []byte(state)) == 1
}

// Finish turns the code that came back into who it is. What the provider says is held against its keys, the issuer, the client, the time and the nonce of the flow.
func (p *Provider) Finish(ctx context.Context, f Flow, code string) (grant.Identity, error) {
	ctx = oidc.ClientContext(ctx, p.client)
	t, err := p.oauth().Exchange(ctx, code, oauth2.VerifierOption(f.Verifier))
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused) && refused.ErrorCode != "":
		return grant.Identity{}, fmt.Errorf("provider %s does not take the code: %s", p.conf.Name, brief(errors.New(strings.TrimSuffix(refused.ErrorCode+": "+refused.ErrorDescription, ": "))))
	case errors.As(err, &refused):
		return grant.Identity{}, fmt.Errorf("provider %s does not take the code: it answers %s", p.conf.Name, bounded.Status(refused.Response.StatusCode))
	case err != nil:
		return grant.Identity{}, fmt.Errorf("provider %s can't be asked: %s", p.conf.Name, brief(err))
	}
	raw, _ := t.Extra("id_token").(string)
	if raw == "" {
		return grant.Identity{}, fmt.Errorf("provider %s says nothing of who it is (id_token); is it one of OpenID Connect?", p.conf.Name)
	}
	id, err := p.oidc.Verifier(&oidc.Config{ClientID: p.conf.Client}).Verify(ctx, raw)
	if err != nil {
		return grant.Identity{}, fmt.Errorf("what provider %s says of who it is can't be trusted: %s", p.conf.Name, brief(err))
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(f.Nonce)) != 1 {
		return grant.Identity{}, fmt.Errorf("what provider %s says of who it is can't be trusted: it is the answer to another sign-in (nonce)", p.conf.Name)
	}
	var claims map[string]any
	if err := id.Claims(&claims); err != nil {
		return grant.Identity{}, fmt.Errorf("what provider %s says of who it is can't be read: %s", p.conf.Name, brief(err))
	}
	if azp, is := claims["azp"].(string); (is || len(id.Audience) > 1) && azp != p.conf.Client {
		return grant.Identity{}, fmt.Errorf("what provider %s says of who it is can't be trusted: it was made for another client (azp)", p.conf.Name)
	}
	if _, has := claims[p.groups()]; !has && p.oidc.UserInfoEndpoint() != "" {
		info, err := p.oidc.UserInfo(ctx, oauth2.StaticTokenSource(t))
		if err != nil {
			return grant.Identity{}, fmt.Errorf("provider %s does not say which groups %s is in: %s", p.conf.Name, id.Subject, brief(err))
		}
		var more map[string]any
		if info.Subject != id.Subject || info.Claims(&more) != nil {
			return grant.Identity{}, fmt.Errorf("provider %s tells of somebody else than was asked for (userinfo)", p.conf.Name)
		}
		for name, v := range more {
			if _, has := claims[name]; !has {
				claims[name] = v
			}
		}
	}
	return p.identity(id.Subject, claims)
}

func (p *Provider) groups() string { return cmp.Or(p.conf.Groups, "groups") }

// identity reads who it is from claims that were verified.
func (p *Provider) identity(subject string, claims map[string]any) (grant.Identity, error) {
	out := grant.Identity{Provider: p.conf.Name, Subject: subject}
	named, _ := claims["email"].(string)
	switch {
	case p.conf.Names != "":
		if named, _ = claims[p.conf.Names].(string); named == "" {
			return out, fmt.Errorf("provider %s does not say what %s is called: there is no %s", p.conf.Name, subject, p.conf.Names)
		}
	case claims["email_verified"] != true || named == "":
		named = subject
	}
	if out.Name = named; !usable(named) {
		return out, fmt.Errorf("provider %s calls somebody %.40q, which is no name that can be written down", p.conf.Name, named)
	}
	switch all := claims[p.groups()].(type) {
	case nil:
	case string: // some say a single one so
		out.Groups = []string{all}
	case []any:
		if len(all) > maxGroups {
			return out, fmt.Errorf("provider %s says that %s is in %d groups; at most %d are read", p.conf.Name, named, len(all), maxGroups)
		}
		for _, g := range all {
			name, is := g.(string)
			if !is || !usable(name) {
				return out, fmt.Errorf("provider %s lists a group of %s that has no name; is %s the right claim?", p.conf.Name, named, p.groups())
			}
			out.Groups = append(out.Groups, name)
		}
	default:
		return out, fmt.Errorf("provider %s does not list the groups of %s: %s is no list", p.conf.Name, named, p.groups())
	}
	return out, nil
}

// usable tells whether a name can be written into a line of a log.
func usable(name string) bool {
	return name != "" && len(name) <= maxName && strings.TrimSpace(name) == name && !strings.ContainsFunc(name, func(r rune) bool {
		return r < ' ' || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfffd || 0x202a <= r && r <= 0x202e || 0x2066 <= r && r <= 0x2069
	})
}
