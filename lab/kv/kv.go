// Package kv is a small server of secret values: the parts of the HTTP API of KV version 2 that clients need to read, set and sign in, with
// tokens that end. It can be made to fail as servers do. Nothing in it is secret.
package kv

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
)

// Mount is where values are.
const Mount = "secret"

// RoleID and RoleSecret sign in by role.
const (
	RoleID     = "lab-role"
	RoleSecret = "lab-role-secret"
)

// roleLife is how long a token is good that a role got.
const roleLife = 5 * time.Second

// Server is one that runs.
type Server struct {
	URL    string
	server *http.Server
	file   string
	token  string

	mu     sync.Mutex
	values map[string][]version // by path, oldest first
	tokens map[string]time.Time // to their ends
	modes  map[string]string    // by token; of all where it is ""
}

// version is what was set at a path at once; one without data was deleted.
type version struct {
	At   time.Time      `json:"at"`
	Data map[string]any `json:"data,omitempty"`
	Gone bool           `json:"gone,omitempty"`
}

// Start serves on a port of loopback (0: any). What is set is kept in a file, where one is given. token is good for ever, and so is whatever begins with it and a dash.
func Start(port int, token, file string) (*Server, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, err
	}
	s := &Server{URL: "http://" + l.Addr().String(), token: token, file: file, values: map[string][]version{}, tokens: map[string]time.Time{}, modes: map[string]string{}}
	if b, err := os.ReadFile(file); err == nil {
		if err := json.Unmarshal(b, &s.values); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	s.server = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.server.Serve(l) }()
	return s, nil
}

// Close ends it.
func (s *Server) Close() { _ = s.server.Close() }

// The ways to fail, as PUT /lab/mode takes them, for whoever bears a token or for all.
const (
	Well    = "well"
	Down    = "down"   // connections are closed
	Slow    = "slow"   // nothing is answered for a minute
	Forbids = "forbid" // 403
	Busy    = "busy"   // 429
	Sealed  = "sealed" // 503
	Lies    = "lie"    // 200, and a page
	NoMeta  = "no-metadata"
)

var modes = []string{Well, Down, Slow, Forbids, Busy, Sealed, Lies, NoMeta}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/lab/mode" {
		s.setMode(w, r)
		return
	}
	s.mu.Lock()
	mode := s.modes[r.Header.Get("X-Vault-Token")]
	if mode == "" {
		mode = s.modes[""]
	}
	s.mu.Unlock()
	switch mode {
	case Down:
		if h, ok := w.(http.Hijacker); ok {
			if c, _, err := h.Hijack(); err == nil {
				_ = c.Close()
			}
		}
		return
	case Slow:
		select {
		case <-r.Context().Done():
		case <-time.After(time.Minute):
		}
		return
	case Forbids:
		refuse(w, http.StatusForbidden, "permission denied")
		return
	case Busy:
		refuse(w, http.StatusTooManyRequests, "request rate limit exceeded")
		return
	case Sealed:
		refuse(w, http.StatusServiceUnavailable, "it is sealed")
		return
	case Lies:
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte("<html>Welcome aboard</html>"))
		return
	}
	if err := s.serve(w, r, mode); err != nil {
		refuse(w, http.StatusBadRequest, err.Error())
	}
}

func (s *Server) setMode(w http.ResponseWriter, r *http.Request) {
	var in struct{ Mode, Token string }
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || !slices.Contains(modes, in.Mode) {
		refuse(w, http.StatusBadRequest, "mode is one of "+strings.Join(modes, ", "))
		return
	}
	s.modes[in.Token] = in.Mode
	w.WriteHeader(http.StatusNoContent)
}

func (s *Server) serve(w http.ResponseWriter, r *http.Request, mode string) error {
	switch r.URL.Path {
	case "/v1/auth/approle/login":
		return s.signIn(w, r)
	case "/v1/auth/token/lookup-self":
		if !s.signedIn(r) {
			refuse(w, http.StatusForbidden, "permission denied")
			return nil
		}
		answer(w, map[string]any{"data": map[string]any{"ttl": 0}})
		return nil
	}
	if !s.signedIn(r) {
		refuse(w, http.StatusForbidden, "permission denied")
		return nil
	}
	data, isData := strings.CutPrefix(r.URL.Path, "/v1/"+Mount+"/data/")
	meta, isMeta := strings.CutPrefix(r.URL.Path, "/v1/"+Mount+"/metadata/")
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case isData && r.Method == http.MethodGet:
		s.read(w, data)
	case isData && r.Method == http.MethodDelete:
		s.values[data] = append(s.values[data], version{At: time.Now(), Gone: true})
		w.WriteHeader(http.StatusNoContent)
		return s.keep()
	case isData:
		return s.write(w, r, data)
	case isMeta && mode == NoMeta:
		refuse(w, http.StatusForbidden, "1 error occurred: permission denied")
	case isMeta && r.Method == http.MethodGet:
		s.tell(w, meta)
	default:
		refuse(w, http.StatusNotFound)
	}
	return nil
}

func (s *Server) signIn(w http.ResponseWriter, r *http.Request) error {
	var in struct {
		Role   string `json:"role_id"`
		Secret string `json:"secret_id"`
	}
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
		return err
	}
	if in.Role != RoleID || in.Secret != RoleSecret {
		refuse(w, http.StatusBadRequest, "invalid role or secret ID")
		return nil
	}
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	token := "lab." + hex.EncodeToString(b)
	s.mu.Lock()
	s.tokens[token] = time.Now().Add(roleLife)
	s.mu.Unlock()
	answer(w, map[string]any{"auth": map[string]any{"client_token": token, "lease_duration": int(roleLife.Seconds()), "renewable": true}})
	return nil
}

func (s *Server) signedIn(r *http.Request) bool {
	token := r.Header.Get("X-Vault-Token")
	s.mu.Lock()
	defer s.mu.Unlock()
	end, known := s.tokens[token]
	return token != "" && (token == s.token || strings.HasPrefix(token, s.token+"-")) || known && time.Now().Before(end)
}

func about(number int, v version) map[string]any {
	gone := ""
	if v.Gone {
		gone = v.At.UTC().Format(time.RFC3339Nano)
	}
	return map[string]any{"version": number, "created_time": v.At.UTC().Format(time.RFC3339Nano), "deletion_time": gone, "destroyed": false, "custom_metadata": nil}
}

func (s *Server) read(w http.ResponseWriter, path string) {
	all := s.values[path]
	if len(all) == 0 {
		refuse(w, http.StatusNotFound)
		return
	}
	last := all[len(all)-1]
	out := map[string]any{"data": map[string]any{"data": last.Data, "metadata": about(len(all), last)}}
	if last.Gone {
		out["data"].(map[string]any)["data"] = nil
		w.WriteHeader(http.StatusNotFound)
	}
	answer(w, out)
}

func (s *Server) tell(w http.ResponseWriter, path string) {
	all := s.values[path]
	if len(all) == 0 {
		refuse(w, http.StatusNotFound)
		return
	}
	versions := map[string]any{}
	for i, v := range all {
		versions[fmt.Sprint(i+1)] = about(i+1, v)
	}
	answer(w, map[string]any{"data": map[string]any{"current_version": len(all), "oldest_version": 1, "max_versions": 0, "cas_required": false, "delete_version_after": "0s", "custom_metadata": nil,
		"created_time": all[0].At.UTC().Format(time.RFC3339Nano), "updated_time": all[len(all)-1].At.UTC().Format(time.RFC3339Nano), "versions": versions}})
}

func (s *Server) write(w http.ResponseWriter, r *http.Request, path string) error {
	var in struct {
		Options struct {
			Cas *int `json:"cas"`
		} `json:"options"`
		Data map[string]any `json:"data"`
	}
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
		return err
	}
	if in.Data == nil {
		return errors.New("no data provided")
	}
	if cas := in.Options.Cas; cas != nil && *cas != len(s.values[path]) {
		refuse(w, http.StatusBadRequest, "check-and-set parameter did not match the current version")
		return nil
	}
	v := version{At: time.Now(), Data: in.Data}
	s.values[path] = append(s.values[path], v)
	answer(w, map[string]any{"data": about(len(s.values[path]), v)})
	return s.keep()
}

func (s *Server) keep() error {
	if s.file == "" {
		return nil
	}
	b, err := json.Marshal(s.values)
	if err != nil {
		return err
	}
	if err := os.WriteFile(s.file+".new", b, 0o600); err != nil {
		return err
	}
	return os.Rename(s.file+".new", s.file)
}

func answer(w http.ResponseWriter, body any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, status int, why ...string) {
	if why == nil {
		why = []string{}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"errors": why})
}
