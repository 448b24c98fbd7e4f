package secrets

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	bao "github.com/openbao/openbao/api/v2"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/loopback"
)

// The ways to sign in to a KV store.
const (
	ByToken      = "token"
	ByRole       = "role"       // AppRole: an id and a secret
	ByKubernetes = "kubernetes" // the token of a service account
)

// KV is a store that speaks the HTTP API of KV version 2.
// Source: https://openbao.org/api-docs/secret/kv/kv-v2/
type KV struct {
	URL, Mount string
	CA         string // PEM of who signs its certificate; "" for the machine's own
	Space      string // namespace of the server; "" for its root
	SignIn     string // ByToken, ByRole or ByKubernetes
	At         string // where the way to sign in is mounted; its name when empty
	Role       string // the id of the role, or for ByKubernetes its name
	Secret     string // the token, or the role's secret
	JWTFile    string // where the service account's token is, for ByKubernetes
}

// ServiceAccountToken is where Kubernetes puts the token of a Pod's service account.
const ServiceAccountToken = "/var/run/secrets/kubernetes.io/serviceaccount/token"

// kv is a KV that has signed in, or will.
type kv struct {
	KV
	name   string
	client *bao.Client

	mu        sync.Mutex
	until     time.Time // the token is good until then; zero when there is none, or it does not end
	signed    bool
	noVersion bool // it may read values, and not what is told about them
}

// NewKV opens a store; nothing is asked yet.
func NewKV(name string, c KV) (Store, error) {
	switch {
	case c.Mount == "":
		return nil, fmt.Errorf("store %s names no mount, such as secret", name)
	case c.SignIn == ByToken && c.Secret == "":
		return nil, fmt.Errorf("store %s has no token", name)
	case c.SignIn == ByRole && (c.Role == "" || c.Secret == ""):
		return nil, fmt.Errorf("store %s needs the id and the secret of a role", name)
	case c.SignIn == ByKubernetes && c.Role == "":
		return nil, fmt.Errorf("store %s names no role", name)
	case loopback.InTheClear(c.URL):
		return nil, fmt.Errorf("store %s: over plain HTTP secret values could be read on the way; write https://", name)
	}
	transport := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: 10 * time.Second, MaxIdleConns: 8, MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12}}
	if c.CA != "" {
		transport.TLSClientConfig.RootCAs = x509.NewCertPool()
		if !transport.TLSClientConfig.RootCAs.AppendCertsFromPEM([]byte(c.CA)) {
			return nil, fmt.Errorf("store %s: its CA holds no certificate in PEM", name)
		}
	}
	conf := bao.NewConfig()
	conf.DisableEnvironment, conf.DisableRedirects, conf.Address, conf.MaxRetries = true, true, c.URL, 0
	conf.HttpClient = &http.Client{Transport: bounded.Transport(transport, maxAnswer), CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	client, err := bao.NewClient(conf)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	if c.Space != "" {
		client.SetNamespace(c.Space)
	}
	k := &kv{KV: c, name: name, client: client}
	if c.SignIn == ByToken {
		client.SetToken(c.Secret)
		k.signed = true
	}
	return k, nil
}

// signIn signs in where the token has ended, or again is asked for.
func (k *kv) signIn(ctx context.Context, again bool) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.SignIn == ByToken || k.signed && !again && (k.until.IsZero() || time.Now().Before(k.until)) {
		return nil
	}
	in := map[string]any{"role_id": k.Role, "secret_id": k.Secret}
	at := "approle"
	if k.SignIn == ByKubernetes {
		file := k.JWTFile
		if file == "" {
			file = ServiceAccountToken
		}
		jwt, err := os.ReadFile(file)
		if err != nil {
			return refused("store %s: the token of the service account can't be read: %v", k.name, err)
		}
		in, at = map[string]any{"role": k.Role, "jwt": strings.TrimSpace(string(jwt))}, "kubernetes"
	}
	if k.At != "" {
		at = k.At
	}
	k.client.ClearToken()
	k.signed = false
	out, err := k.client.Logical().WriteWithContext(ctx, "auth/"+at+"/login", in)
	if err != nil {
		return k.told(err, "signing in")
	}
	if out == nil || out.Auth == nil || out.Auth.ClientToken == "" {
		return refused("store %s: signing in gave no token", k.name)
	}
	k.client.SetToken(out.Auth.ClientToken)
	k.signed, k.until = true, time.Time{}
	if life := time.Duration(out.Auth.LeaseDuration) * time.Second; life > 0 {
		k.until = time.Now().Add(life * 4 / 5)
	}
	return nil
}

// ask asks something; where it is forbidden with a token that was good before, it signs in once more.
func (k *kv) ask(ctx context.Context, what string, f func() error) error {
	fresh := !k.hasSigned()
	if err := k.signIn(ctx, false); err != nil {
		return err
	}
	err := f()
	if status(err) == http.StatusForbidden && k.SignIn != ByToken && !fresh {
		if err := k.signIn(ctx, true); err != nil {
			return err
		}
		err = f()
	}
	return k.told(err, what)
}

func (k *kv) hasSigned() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.signed
}

func status(err error) int {
	var r *bao.ResponseError
	if errors.As(err, &r) {
		return r.StatusCode
	}
	return 0
}

// told puts an answer into words, without anything that was sent.
func (k *kv) told(err error, what string) error {
	if err == nil {
		return nil
	}
	var own *Error
	if errors.As(err, &own) || errors.Is(err, ErrNone) {
		return err
	}
	var r *bao.ResponseError
	if !errors.As(err, &r) {
		if errors.Is(err, bao.ErrSecretNotFound) {
			return ErrNone
		}
		var network *url.Error
		if errors.As(err, &network) {
			return &Error{Text: fmt.Sprintf("store %s does not answer: %s", k.name, k.without(err.Error())), Away: true, Silent: true}
		}
		return away("store %s gives an answer that can't be read: %s", k.name, bounded.Text(k.without(err.Error())))
	}
	words := k.without(strings.Join(r.Errors, "; "))
	if words != "" {
		words = ": " + bounded.Text(words)
	}
	switch code := r.StatusCode; {
	case code == http.StatusNotFound && len(r.Errors) == 0:
		return ErrNone
	case code == http.StatusForbidden, code == http.StatusUnauthorized:
		return refused("store %s forbids %s%s", k.name, what, words)
	case code == http.StatusTooManyRequests, code >= 500:
		return away("store %s can't answer now (%d)%s", k.name, code, words)
	default:
		return refused("store %s refuses %s (%d)%s", k.name, what, code, words)
	}
}

// without is a text without what is secret of the store.
func (k *kv) without(text string) string {
	for _, secret := range []string{k.Secret, k.client.Token()} {
		if len(secret) > 3 {
			text = strings.ReplaceAll(text, secret, "…")
		}
	}
	return text
}

func (k *kv) Version(ctx context.Context, path string) (string, error) {
	if !k.noVersionNow() {
		version := ""
		err := k.ask(ctx, "reading what it tells of "+path, func() error {
			var m struct {
				Current  int `json:"current_version"`
				Versions map[string]struct {
					Deleted   string `json:"deletion_time"`
					Destroyed bool   `json:"destroyed"`
				} `json:"versions"`
			}
			if err := k.get(ctx, "metadata", path, &m); err != nil {
				return err
			}
			version = strconv.Itoa(m.Current)
			if v := m.Versions[version]; m.Current == 0 || v.Destroyed || over(v.Deleted) {
				return ErrNone
			}
			return nil
		})
		var own *Error
		if !errors.As(err, &own) || own.Away {
			return version, err
		}
		k.mu.Lock()
		k.noVersion = true // it may read values alone, as many policies have it
		k.mu.Unlock()
	}
	v, err := k.Read(ctx, path)
	return v.Version, err
}

// kept is what is at a path.
type kept struct {
	Data map[string]any `json:"data"`
	Meta struct {
		Version   int    `json:"version"`
		Deleted   string `json:"deletion_time"`
		Destroyed bool   `json:"destroyed"`
	} `json:"metadata"`
}

// read reads what is at a path; of what was deleted it is what is told about it, and ErrNone.
func (k *kv) read(ctx context.Context, path string) (*kept, error) {
	var s kept
	if err := k.get(ctx, "data", path, &s); err != nil && s.Meta.Version == 0 {
		return nil, err
	}
	if s.Data == nil || s.Meta.Destroyed || over(s.Meta.Deleted) {
		return &s, ErrNone
	}
	return &s, nil
}

// over tells whether a time is there and past.
func over(text string) bool {
	at, err := time.Parse(time.RFC3339Nano, text)
	return err == nil && at.Before(time.Now())
}

// get reads something of a path. The client's own way takes every 404 for nothing: that of a mount which there is not too.
func (k *kv) get(ctx context.Context, what, path string, into any) error {
	r, err := k.client.Logical().ReadRawWithContext(ctx, k.Mount+"/"+what+"/"+path)
	if r == nil || r.Body == nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode >= 300 && r.StatusCode < 400 {
		return refused("store %s sends elsewhere (%d), which is not followed; give the address that answers itself", k.name, r.StatusCode)
	}
	text, readErr := io.ReadAll(r.Body)
	if err == nil {
		err = readErr
	}
	if status := status(err); err != nil && status != http.StatusNotFound {
		return err
	}
	var in struct {
		Data json.RawMessage `json:"data"`
	}
	if jsonErr := json.Unmarshal(text, &in); jsonErr != nil || len(in.Data) == 0 {
		return errors.Join(err, jsonErr)
	}
	numbers := json.NewDecoder(bytes.NewReader(in.Data))
	numbers.UseNumber()
	return errors.Join(err, numbers.Decode(into))
}

func (k *kv) noVersionNow() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.noVersion
}

func (k *kv) Read(ctx context.Context, path string) (out Values, err error) {
	err = k.ask(ctx, "reading "+path, func() error {
		s, err := k.read(ctx, path)
		if err != nil {
			return err
		}
		if len(s.Data) > maxKeys {
			return refused("store %s has more than %d keys at %s", k.name, maxKeys, path)
		}
		out = Values{Version: strconv.Itoa(s.Meta.Version), Keys: make(map[string]string, len(s.Data))}
		for key, v := range s.Data {
			if out.Keys[key], err = text(v); err != nil {
				return refused("store %s: the value of %s#%s can't be read", k.name, path, key)
			}
		}
		return nil
	})
	if err != nil {
		return Values{}, err
	}
	return out, nil
}

// text is a value as a text: one that is none is written as JSON.
func text(v any) (string, error) {
	switch v := v.(type) {
	case string:
		return v, nil
	case json.Number:
		return v.String(), nil
	case nil:
		return "", nil
	}
	b, err := json.Marshal(v)
	return string(b), err
}

// Set sets a key of what is there, and nothing when somebody else sets another meanwhile: then it is tried again.
func (k *kv) Set(ctx context.Context, path, key, value string) error {
	for range 5 {
		data, version := map[string]any{}, 0
		err := k.ask(ctx, "reading "+path, func() error {
			s, err := k.read(ctx, path)
			if s != nil {
				version = s.Meta.Version // of one that was deleted too
			}
			if err != nil {
				return err
			}
			data = s.Data
			return nil
		})
		if err != nil && !errors.Is(err, ErrNone) {
			return err
		}
		data[key] = value
		moved := false
		err = k.ask(ctx, "setting "+path, func() error {
			_, err := k.client.KVv2(k.Mount).Put(ctx, path, data, bao.WithCheckAndSet(version))
			moved = status(err) == http.StatusBadRequest && strings.Contains(err.Error(), "check-and-set")
			return err
		})
		if !moved {
			return err
		}
	}
	return away("store %s: others set %s again and again; try it in a moment", k.name, path)
}

// Try signs in, and asks for what the token may do.
func (k *kv) Try(ctx context.Context) error {
	return k.ask(ctx, "signing in", func() error {
		_, err := k.client.Auth().Token().LookupSelfWithContext(ctx)
		return err
	})
}

// Ends asks when the token ends. One that a role gets is got anew before that.
func (k *kv) Ends(ctx context.Context) (end time.Time, err error) {
	if k.SignIn != ByToken {
		return end, nil
	}
	return end, k.ask(ctx, "asking when its token ends", func() error {
		out, err := k.client.Auth().Token().LookupSelfWithContext(ctx)
		if err != nil || out == nil {
			return err
		}
		if text, is := out.Data["expire_time"].(string); is && text != "" { // null for one that does not end
			end, err = time.Parse(time.RFC3339, text)
		}
		return err
	})
}
