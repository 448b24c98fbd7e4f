package lookout

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStoresOfALookout(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		at := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
		return at
	}
	const head = "vigila: store/v1\nname: skerry-kv\n"
	token := write("token", "spring-tide\n")
	for name, c := range map[string]struct {
		text   string
		tokens map[string]string
		want   string
	}{
		"no file":           {"", nil, "to hold stores and nothing else"},
		"a mistake":         {head + "mout: secret\n", nil, "stores.yaml:3: unknown key mout; did you mean mount?"},
		"a ward":            {"vigila: ward/v1\nname: a\nfrom: {repo: moorings}\ninto: {cluster: quay}\n", nil, "to hold stores and nothing else"},
		"a namespace":       {head + "namespace: skerry/default\n", nil, "stores.yaml:1: store skerry-kv is no server; write its url"},
		"another lookout":   {head + "by_lookout: skerry\n", nil, "store skerry-kv is no server"},
		"who may":           {head + "url: https://kv.brindle.example\nfor: {owners: [harbour-ops]}\n", nil, "says who may use it"},
		"no token":          {head + "url: https://kv.brindle.example\n", nil, "is signed in to with a token; say in which file that is: --store-token skerry-kv=FILE"},
		"no role's secret":  {head + "url: https://kv.brindle.example\nsign_in: role\nrole: r\n", nil, "is signed in to with a role's secret; say"},
		"in the clear":      {head + "url: http://kv.brindle.example\n", map[string]string{"skerry-kv": token}, "over plain HTTP secret values could be read on the way"},
		"a token too many":  {head + "url: https://kv.brindle.example\nsign_in: kubernetes\nrole: vigila\n", map[string]string{"quay-kv": token}, "--store-token is for quay-kv"},
		"twice":             {head + "url: https://kv.brindle.example\n---\n" + head + "url: https://kv.brindle.example\n", map[string]string{"skerry-kv": token}, "stores.yaml:5: store skerry-kv is there twice"},
		"a token that went": {head + "url: https://kv.brindle.example\n", map[string]string{"skerry-kv": filepath.Join(dir, "none")}, "what signs in to it can't be read"},
	} {
		_, err := ReadStores(write("stores.yaml", c.text), c.tokens)
		assert.ErrorContains(t, err, c.want, name)
	}
	s, err := ReadStores(write("stores.yaml", head+"url: https://kv.brindle.example\n"), map[string]string{"skerry-kv": token})
	require.NoError(t, err)
	one, err := s.Open("skerry-kv")
	require.NoError(t, err)
	again, err := s.Open("skerry-kv")
	require.NoError(t, err)
	assert.Same(t, one, again, "it has signed in already")
	write("token", "neap-tide\n")
	other, err := s.Open("skerry-kv")
	require.NoError(t, err)
	assert.NotSame(t, one, other, "its token is another")
	_, err = s.Open("quay-kv")
	assert.ErrorContains(t, err, "its lookout knows no such store, but skerry-kv")
}
