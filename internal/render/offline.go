package render

import (
	"errors"
	"net/http"
	"os"
	"sync"
)

// ErrOffline answers whatever would go over the network while rendering.
var ErrOffline = errors.New("rendering reads the repository alone; nothing is fetched")

type refusing struct{}

func (refusing) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Body != nil {
		_ = r.Body.Close()
	}
	return nil, ErrOffline
}

// Offline keeps the libraries that render from the network, for the whole process: the overlay library brings an HTTP client
// and a way to clone of its own, and what leads there can be written in more ways than a look at the files finds. The
// first is net/http's default, the second the program git with this process's environment; everything of ours that
// reaches out has a client, and an environment, of its own.
var Offline = sync.OnceFunc(func() {
	http.DefaultTransport = refusing{}
	_ = os.Setenv("GIT_ALLOW_PROTOCOL", "none")
})
