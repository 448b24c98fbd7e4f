package lookout

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"

	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/secrets"
)

// Stores are servers of secret values that a lookout asks itself. Where they are, and what signs in to them, its service is never told.
type Stores struct{ all map[string]*ownStore }

type ownStore struct {
	name  string
	kv    secrets.KV
	token string // the file of what signs in to it; "" where nothing has to

	mu     sync.Mutex
	opened secrets.Store // with the token as it was then
	with   string
}

// ReadStores reads a file of stores (store/v1), all of which are servers. tokens are the files of what signs in to them, by the name of the store: they are
// read again whenever a store is asked, so that a token can be another.
func ReadStores(file string, tokens map[string]string) (*Stores, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the stores: %w", err)
	}
	d, err := ward.ParseDeclared(ward.From{}, file, text)
	if err != nil {
		return nil, err
	}
	if len(d.Wards)+len(d.Clusters)+len(d.Repos)+len(d.Rosters) > 0 || len(d.Stores) == 0 {
		return nil, fmt.Errorf("%s is to hold stores and nothing else: vigila: store/v1, as vigila schema store tells", file)
	}
	out := &Stores{map[string]*ownStore{}}
	for _, s := range d.Stores {
		wrong := func(format string, args ...any) error {
			return fmt.Errorf("%s:%d: store %s "+format, append([]any{file, s.Line, s.Name}, args...)...)
		}
		o := &ownStore{name: s.Name, token: tokens[s.Name], kv: secrets.KV{URL: s.URL, Mount: s.Mount, CA: s.CA, Space: s.Space, SignIn: s.SignIn, At: s.At, Role: s.Role}}
		if o.kv.Mount == "" {
			o.kv.Mount = "secret"
		}
		if o.kv.SignIn == "" {
			o.kv.SignIn = secrets.ByToken
		}
		switch {
		case s.URL == "":
			return nil, wrong("is no server; write its url")
		case len(s.Wards)+len(s.Owners)+len(s.Clusters)+len(s.Rosters) > 0 || s.Every != 0:
			return nil, wrong("says who may use it, or how often it is looked at: write for and every where the service knows of it")
		case out.all[s.Name] != nil:
			return nil, wrong("is there twice")
		case o.token == "" && o.kv.SignIn != secrets.ByKubernetes:
			return nil, wrong("is signed in to with a %s; say in which file that is: --store-token %s=FILE", signs[o.kv.SignIn], s.Name)
		}
		if _, err := o.open(); err != nil {
			return nil, wrong("can't be opened: %w", err)
		}
		out.all[s.Name] = o
	}
	for name := range tokens {
		if out.all[name] == nil {
			return nil, fmt.Errorf("--store-token is for %s, and %s has no such store", name, file)
		}
	}
	return out, nil
}

// signs is what signs in, by the way that is done.
var signs = map[string]string{secrets.ByToken: "token", secrets.ByRole: "role's secret"}

// Open is a store by its name. Errors are a *secrets.Error.
func (s *Stores) Open(name string) (secrets.Store, error) {
	o := s.all[name]
	if o == nil {
		return nil, &secrets.Error{Text: fmt.Sprintf("store %s: its lookout knows no such store, but %s; name it in the file of --stores", name, strings.Join(slices.Sorted(maps.Keys(s.all)), ", "))}
	}
	return o.open()
}

func (o *ownStore) open() (secrets.Store, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	kv := o.kv
	if o.token != "" {
		b, err := os.ReadFile(o.token)
		if err != nil {
			return nil, &secrets.Error{Text: fmt.Sprintf("store %s: what signs in to it can't be read at its lookout: %v", o.name, err), Away: true}
		}
		kv.Secret = strings.TrimSpace(string(b))
	}
	if o.opened != nil && kv.Secret == o.with {
		return o.opened, nil
	}
	s, err := secrets.NewKV(o.name, kv)
	if err != nil {
		var why *secrets.Error
		if !errors.As(err, &why) {
			err = &secrets.Error{Text: err.Error()}
		}
		return nil, err
	}
	o.opened, o.with = s, kv.Secret
	return s, nil
}
