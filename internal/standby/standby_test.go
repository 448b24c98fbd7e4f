package standby

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

// works is a service at an address, whose record whoever has its key may copy.
func works(t *testing.T) (store *record.Store, dir, address string, refused chan error) {
	t.Helper()
	dir = t.TempDir()
	store, err := record.Open(t.Context(), dir)
	require.NoError(t, err)
	refused = make(chan error, 10)
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		conn, err := link.Accept(w, q)
		if assert.NoError(t, err) {
			refused <- Serve(q.Context(), conn, store, "192.0.2.7", slog.New(slog.DiscardHandler))
		}
	}))
	t.Cleanup(func() {
		h.CloseClientConnections()
		h.Close()
		assert.NoError(t, store.Close())
	})
	return store, dir, h.URL, refused
}

func copyInto(t *testing.T, key []byte) (*record.CopyIn, *record.Vault, string) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vigila.key"), key, 0o600))
	in, vault, err := record.BeginCopy(dir)
	require.NoError(t, err)
	return in, vault, dir
}

// TestTheRecordComesWhole, a large one in parts, and every write after it, a large one in pieces; what is secret can be read there.
func TestTheRecordComesWhole(t *testing.T) {
	store, dir, address, _ := works(t)
	large := strings.Repeat("tide ", 1<<20)
	put := func(name, password string) {
		require.NoError(t, store.PutRepo(t.Context(), record.Repo{Name: name, URL: "https://git.brindle.example/" + name, User: "vigila", Password: password}))
	}
	put("moorings", large)
	put("charts", large)
	key, err := os.ReadFile(filepath.Join(dir, "vigila.key"))
	require.NoError(t, err)
	in, vault, other := copyInto(t, key)
	ctx, end := context.WithCancel(t.Context())
	inStep, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- Follow(ctx, address, nil, in, vault, func() { close(inStep) }) }()
	<-inStep
	put("settings", "open-sesame")
	put("moorings", large+"turn")
	put("last", "")
	end()
	require.NoError(t, <-ended)
	require.NoError(t, in.Close())
	copied, err := record.Open(t.Context(), other)
	require.NoError(t, err)
	defer copied.Close()
	want, err := store.Repos(t.Context())
	require.NoError(t, err)
	got, err := copied.Repos(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want, got, "what was answered is there")
}

// TestNobodyElseGetsACopy: whoever has another key is told that at once, and gets nothing.
func TestNobodyElseGetsACopy(t *testing.T) {
	store, _, address, refused := works(t)
	_, stranger, _, _ := works(t)
	key, err := os.ReadFile(filepath.Join(stranger, "vigila.key"))
	require.NoError(t, err)
	in, vault, dir := copyInto(t, key)
	defer in.Close()
	err = Follow(t.Context(), address, nil, in, vault, func() { t.Error("it is in step with nobody") })
	assert.ErrorContains(t, err, "encrypts with another key; give both the same vigila.key")
	assert.Error(t, <-refused)
	assert.NoFileExists(t, filepath.Join(dir, "vigila.db"))

	// Who calls the right one, and has not the key of the one that stands by.
	mine, _, err := keys(store.Vault())
	require.NoError(t, err)
	conn, err := link.DialAt(t.Context(), address, Path, nil)
	require.NoError(t, err)
	own, err := link.NewKey()
	require.NoError(t, err)
	safe, err := link.Call(t.Context(), conn, own, mine.Name())
	if err == nil { // the other side may find out only now
		_ = safe.Close()
	}
	assert.ErrorContains(t, <-refused, "has not the key of this service's secrets")
}

// TestAWriteGoesInPieces: in their order, the last without more to come, and none is lost.
func TestAWriteGoesInPieces(t *testing.T) {
	var ch record.Change
	for i := range 10 {
		ch.All = append(ch.All, record.Statement{Query: strings.Repeat("x", atOnce/2), Args: []any{int64(i)}})
	}
	all := pieces(ch)
	require.Greater(t, len(all), 2)
	n := int64(0)
	for i, piece := range all {
		assert.Equal(t, i < len(all)-1, piece.More)
		for _, s := range piece.All {
			assert.Equal(t, n, s.Args[0])
			n++
		}
	}
	assert.EqualValues(t, 10, n)
	assert.Len(t, pieces(record.Change{N: 3}), 1, "an empty one is one all the same: numbers have no gaps")
}
