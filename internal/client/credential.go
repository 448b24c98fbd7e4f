package client

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Credential is who somebody is, as a provider says it to a client of theirs: for an API server that takes that.
type Credential struct {
	IDToken string    `json:"id_token"`
	Expires time.Time `json:"expires"`
	Refresh string    `json:"refresh_token,omitempty"`
}

// Issuer is a provider, and what a command line is to it: a public client that may be sent back to this machine.
type Issuer struct {
	URL, Client string
	CA          string // PEM, beside what this machine trusts
}

// enough is how long a credential still has to be good for, so that it is not asked for with it at the last moment.
const enough = 30 * time.Second

// Credential is a credential of whoever sits here: the one that is kept below dir while it is good, one that the provider renews, or else that of a browser on this
// machine, by the authorization code flow with PKCE and a redirect to a port of it (RFC 8252). Show is told what they open.
func (i Issuer) Credential(ctx context.Context, dir string, show func(link string)) (Credential, error) {
	ctx, err := i.trusting(ctx)
	if err != nil {
		return Credential{}, err
	}
	sum := sha256.Sum256([]byte(i.URL + "\n" + i.Client))
	file := filepath.Join(dir, "credential-"+hex.EncodeToString(sum[:8])+".json")
	var kept Credential
	if b, err := os.ReadFile(file); err == nil && json.Unmarshal(b, &kept) == nil && time.Until(kept.Expires) > enough {
		return kept, nil
	}
	p, err := oidc.NewProvider(ctx, i.URL)
	if err != nil {
		return Credential{}, fmt.Errorf("the provider %s can't be asked: %w", i.URL, err)
	}
	conf := &oauth2.Config{ClientID: i.Client, Endpoint: p.Endpoint(), Scopes: []string{oidc.ScopeOpenID, "profile", "email", "groups", oidc.ScopeOfflineAccess}}
	verifier := p.Verifier(&oidc.Config{ClientID: i.Client})
	fresh, err := renewed(ctx, conf, verifier, kept.Refresh)
	if err != nil {
		if fresh, err = browsed(ctx, conf, verifier, show); err != nil {
			return Credential{}, err
		}
	}
	return fresh, keep(file, fresh)
}

func (i Issuer) trusting(ctx context.Context) (context.Context, error) {
	if i.CA == "" {
		return ctx, nil
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM([]byte(i.CA)) {
		return nil, errors.New("the provider's certificates are no PEM")
	}
	c := &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: &tls.Config{RootCAs: pool}}, Timeout: time.Minute}
	return oidc.ClientContext(ctx, c), nil
}

// keep writes a credential where only its owner reads it.
func keep(file string, c Credential) error {
	b, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(file), ".credential-") // 0600, and whole for whoever reads it meanwhile
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.Write(b)
	if err = errors.Join(err, tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), file)
}

var errNothingToRenew = errors.New("there is nothing to renew")

func renewed(ctx context.Context, conf *oauth2.Config, v *oidc.IDTokenVerifier, refresh string) (Credential, error) {
	if refresh == "" {
		return Credential{}, errNothingToRenew
	}
	t, err := conf.TokenSource(ctx, &oauth2.Token{RefreshToken: refresh}).Token()
	if err != nil {
		return Credential{}, err
	}
	return credentialOf(ctx, v, t, "")
}

func credentialOf(ctx context.Context, v *oidc.IDTokenVerifier, t *oauth2.Token, nonce string) (Credential, error) {
	raw, _ := t.Extra("id_token").(string)
	id, err := v.Verify(ctx, raw)
	if err != nil {
		return Credential{}, fmt.Errorf("what the provider says can't be taken: %w", err)
	}
	if nonce != "" && id.Nonce != nonce {
		return Credential{}, errors.New("what the provider says is about another sign-in")
	}
	return Credential{IDToken: raw, Expires: id.Expiry, Refresh: t.RefreshToken}, nil
}

func random() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails
	return base64.RawURLEncoding.EncodeToString(b)
}

// browsed signs in with a browser on this machine.
func browsed(ctx context.Context, conf *oauth2.Config, v *oidc.IDTokenVerifier, show func(link string)) (Credential, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return Credential{}, fmt.Errorf("no port of this machine can be had for the browser to come back to: %w", err)
	}
	conf.RedirectURL = fmt.Sprintf("http://%s/back", l.Addr())
	state, nonce, pkce := random(), random(), oauth2.GenerateVerifier()
	type answer struct {
		c   Credential
		err error
	}
	came := make(chan answer, 1)
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if r.URL.Path != "/back" || q.Get("state") != state { // of another sign-in, or of nobody that was sent here
			http.NotFound(w, r)
			return
		}
		var a answer
		if q.Get("code") == "" {
			a.err = fmt.Errorf("the provider let nobody in: %s %s", q.Get("error"), q.Get("error_description"))
		} else if t, err := conf.Exchange(ctx, q.Get("code"), oauth2.VerifierOption(pkce)); err != nil {
			a.err = fmt.Errorf("the provider does not take its own code: %w", err)
		} else {
			a.c, a.err = credentialOf(ctx, v, t, nonce)
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		text := "The command line knows who you are. You can close this page.\n"
		if a.err != nil {
			text = "That did not work; the command line says why.\n"
		}
		_, _ = io.WriteString(w, text) // whoever left early knows it from the terminal
		select {
		case came <- a:
		default:
		}
	})}
	go func() { _ = s.Serve(l) }()
	defer func() { _ = s.Shutdown(context.WithoutCancel(ctx)) }()
	show(conf.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(pkce)))
	select {
	case a := <-came:
		return a.c, a.err
	case <-ctx.Done():
		return Credential{}, errors.New("nobody signed in; run it again")
	}
}
