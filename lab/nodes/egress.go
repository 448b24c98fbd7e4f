package nodes

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"sync"
	"time"
)

// Egress is the way of an API server to its nodes and Pods: HTTP CONNECT on a socket. The addresses of Pods lead to what they
// answer, all others where they lead anyway.
// Source: https://kubernetes.io/docs/tasks/extend-kubernetes/setup-konnectivity/
func (f *Yard) Egress(socket string) error {
	_ = os.Remove(socket) // of a lab that was killed
	l, err := net.Listen("unix", socket)
	if err != nil {
		return fmt.Errorf("the way to the Pods: %w", err)
	}
	f.egress = &http.Server{Handler: http.HandlerFunc(f.serving.connect), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = f.egress.Serve(l) }()
	return nil
}

// connect answers one CONNECT.
func (s *serving) connect(w http.ResponseWriter, r *http.Request) {
	host, _, err := net.SplitHostPort(r.Host)
	if r.Method != http.MethodConnect || err != nil {
		http.Error(w, "this is for CONNECT host:port", http.StatusMethodNotAllowed)
		return
	}
	s.mu.RLock()
	x := s.byIP[host]
	s.mu.RUnlock()
	var there net.Conn
	if x == nil {
		if there, err = net.DialTimeout("tcp", r.Host, 5*time.Second); err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
	}
	here, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	if _, err := io.WriteString(here, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		_ = here.Close()
		return
	}
	if x != nil {
		pod := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			r.URL.Path = "/pods/" + x.namespace + "/" + x.name + r.URL.Path
			s.ServeHTTP(w, r)
		})
		_ = (&http.Server{Handler: pod, ReadHeaderTimeout: 10 * time.Second}).Serve(&single{conn: here}) // it goes on after that
		return
	}
	go func() {
		_, _ = io.Copy(there, buffered)
		_ = there.Close()
	}()
	_, _ = io.Copy(here, there)
	_ = here.Close()
}

// single is a listener with one connection.
type single struct {
	once sync.Once
	conn net.Conn
}

func (l *single) Accept() (c net.Conn, err error) {
	err = errors.New("there was one")
	l.once.Do(func() { c, err = l.conn, nil })
	return c, err
}

func (l *single) Close() error   { return nil }
func (l *single) Addr() net.Addr { return l.conn.LocalAddr() }
