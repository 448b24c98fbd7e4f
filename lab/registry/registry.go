// Package registry runs a registry of images on loopback, and pushes small images to it. Start with Start.
package registry

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
)

// Server is a registry that is up; what is pushed to it is held in memory.
type Server struct {
	Host string // host and port
	http *http.Server
}

// Start serves a registry at a loopback port.
func Start(port int) (*Server, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, err
	}
	s := &Server{Host: l.Addr().String(), http: &http.Server{Handler: registry.New(registry.Logger(log.New(io.Discard, "", 0))), ReadHeaderTimeout: 10 * time.Second}}
	go func() { _ = s.http.Serve(l) }()
	return s, nil
}

// Close ends it.
func (s *Server) Close() { _ = s.http.Close() }

// Push pushes an image that holds nothing but its own name: the same reference is the same image, wherever it is pushed.
func Push(ctx context.Context, reference string) error {
	ref, err := name.ParseReference(reference, name.Insecure)
	if err != nil {
		return err
	}
	im, err := mutate.ConfigFile(empty.Image, &v1.ConfigFile{OS: "linux", Architecture: "amd64", Created: v1.Time{Time: time.Date(2026, 11, 1, 6, 0, 0, 0, time.UTC)},
		RootFS: v1.RootFS{Type: "layers"}, Config: v1.Config{Labels: map[string]string{"org.opencontainers.image.title": ref.Context().RepositoryStr(), "org.opencontainers.image.version": ref.Identifier()}}})
	if err != nil {
		return err
	}
	if err := remote.Write(ref, im, remote.WithContext(ctx)); err != nil {
		return fmt.Errorf("push %s: %w", reference, err)
	}
	return nil
}
