// Package inbox is where messages arrive in the lab: a mail server that speaks SMTP with STARTTLS and sign-in, a chat's incoming webhook, and an address that takes
// signed events; with a page that shows what came in. Each can be made to fail as such servers do. Nothing in it is secret.
package inbox

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	netmail "net/mail"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"vigila.dev/lab/ownca"
)

// User signs in to the mail server; the password is the token.
const User = "vigila"

// SigningKey is what events are signed with, as Standard Webhooks writes it.
const SigningKey = "whsec_dGhlLWxhYi1zaWducy13aXRoLXRoaXMta2V5LW9ubHk="

// Message is what came in.
type Message struct {
	By      string    `json:"by"` // chat, mail or events
	At      time.Time `json:"at"`
	ID      string    `json:"id,omitempty"` // of a mail, or of an event
	From    string    `json:"from,omitempty"`
	To      []string  `json:"to,omitempty"`
	Subject string    `json:"subject,omitempty"`
	Text    string    `json:"text"`
	HTML    string    `json:"html,omitempty"` // of a mail
	Signed  bool      `json:"signed,omitempty"`
}

// Server is one that runs.
type Server struct {
	URL  string // of the page; chats are told at URL/hook/TOKEN, events at URL/events/TOKEN
	Mail string // HOST:PORT of the mail server
	CA   string // file of the certificate that signs the mail server's

	token string
	http  *http.Server
	smtp  *smtp.Server

	mu       sync.Mutex
	messages []Message
	modes    map[string]string // by chat, mail and events
}

// Ports are where the servers listen on loopback; 0 takes any.
type Ports struct{ HTTP, Mail int }

// most is how many messages are kept.
const most = 2000

// Start serves. The mail server's certificate is written into the directory.
func Start(ports Ports, token, dir string) (*Server, error) {
	s := &Server{token: token, modes: map[string]string{}, CA: filepath.Join(dir, "inbox-ca.pem")}
	cert, err := ownca.Certificate(s.CA, "inbox")
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", ports.HTTP))
	if err != nil {
		return nil, err
	}
	ml, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", ports.Mail))
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	s.URL, s.Mail = "http://"+l.Addr().String(), ml.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", s.page)
	mux.HandleFunc("GET /messages", s.list)
	mux.HandleFunc("PUT /lab/mode", s.setMode)
	mux.HandleFunc("POST /hook/{token}", s.chat)
	mux.HandleFunc("POST /events/{token}", s.event)
	s.http = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	s.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) {
		if s.mode("mail") == "down" {
			return nil, &smtp.SMTPError{Code: 421, EnhancedCode: smtp.EnhancedCode{4, 3, 2}, Message: "not now"}
		}
		return &session{s: s}, nil
	}))
	s.smtp.Domain, s.smtp.TLSConfig = "inbox.brindle.example", &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	s.smtp.MaxMessageBytes, s.smtp.MaxRecipients = 1<<20, 50
	s.smtp.ReadTimeout, s.smtp.WriteTimeout = 30*time.Second, 30*time.Second
	go func() { _ = s.http.Serve(l) }()
	go func() { _ = s.smtp.Serve(ml) }()
	return s, nil
}

// Close ends it.
func (s *Server) Close() { _ = errors.Join(s.http.Close(), s.smtp.Close()) }

// Messages are what came in, the oldest first.
func (s *Server) Messages() []Message {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.messages)
}

// Mode makes one of chat, mail and events fail: down, busy, refuse or slow; "" mends it.
func (s *Server) Mode(of, mode string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.modes[of] = mode
}

func (s *Server) mode(of string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.modes[of]
}

func (s *Server) take(m Message) {
	m.At = time.Now().UTC()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.messages = append(s.messages, m)
	if len(s.messages) > most {
		s.messages = slices.Clone(s.messages[len(s.messages)-most:])
	}
}

// read takes a body that came over HTTP; false when it is not taken.
func (s *Server) read(w http.ResponseWriter, r *http.Request, of string) ([]byte, bool) {
	if r.PathValue("token") != s.token {
		http.Error(w, "no such hook", http.StatusNotFound)
		return nil, false
	}
	switch s.mode(of) {
	case "down":
		http.Error(w, "down", http.StatusServiceUnavailable)
		return nil, false
	case "busy":
		http.Error(w, "too many", http.StatusTooManyRequests)
		return nil, false
	case "refuse":
		http.Error(w, "refused", http.StatusBadRequest)
		return nil, false
	case "slow":
		select {
		case <-r.Context().Done():
			return nil, false
		case <-time.After(5 * time.Second):
		}
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return nil, false
	}
	return body, true
}

// chat is what most chats offer: {"text": …} at an address that nobody else knows.
func (s *Server) chat(w http.ResponseWriter, r *http.Request) {
	body, ok := s.read(w, r, "chat")
	if !ok {
		return
	}
	var in struct{ Text string }
	if err := json.Unmarshal(body, &in); err != nil || in.Text == "" {
		http.Error(w, "write {\"text\": …}", http.StatusBadRequest)
		return
	}
	s.take(Message{By: "chat", Text: in.Text})
	_, _ = io.WriteString(w, "ok")
}

// event takes CloudEvents, and looks whether they are signed with SigningKey. Source: https://github.com/standard-webhooks/standard-webhooks
func (s *Server) event(w http.ResponseWriter, r *http.Request) {
	body, ok := s.read(w, r, "events")
	if !ok {
		return
	}
	var in struct {
		SpecVersion, ID, Type, Source, Subject string
	}
	if err := json.Unmarshal(body, &in); err != nil || in.SpecVersion != "1.0" || in.ID == "" || in.Type == "" || in.Source == "" {
		http.Error(w, "that is no CloudEvent 1.0", http.StatusBadRequest)
		return
	}
	key, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(SigningKey, "whsec_")) // it is ours
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.%s", r.Header.Get("webhook-id"), r.Header.Get("webhook-timestamp"), body)
	sent, err := strconv.ParseInt(r.Header.Get("webhook-timestamp"), 10, 64)
	signed := err == nil && time.Since(time.Unix(sent, 0)).Abs() < 5*time.Minute && hmac.Equal([]byte(r.Header.Get("webhook-signature")), []byte("v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil))))
	s.take(Message{By: "events", ID: in.ID, Subject: in.Type + " " + in.Subject, Text: string(body), Signed: signed})
	w.WriteHeader(http.StatusNoContent)
}

func (s *Server) setMode(w http.ResponseWriter, r *http.Request) {
	var in struct{ Of, Mode string }
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || !slices.Contains([]string{"chat", "mail", "events"}, in.Of) || !slices.Contains([]string{"well", "down", "busy", "refuse", "slow"}, in.Mode) {
		http.Error(w, `write {"of": "chat", "mode": "down"}: of is chat, mail or events; mode is well, down, busy, refuse or slow`, http.StatusBadRequest)
		return
	}
	s.Mode(in.Of, strings.TrimPrefix(in.Mode, "well"))
	w.WriteHeader(http.StatusNoContent)
}

func (s *Server) list(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(append([]Message{}, s.Messages()...))
}

// page is what came in, as people see it, the newest first.
var page = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="5"><title>Messages of the lab</title>
<style>
body { font: 15px/1.45 system-ui, sans-serif; max-width: 52rem; margin: 1.5rem auto; padding: 0 1rem; color: #222; background: #fff }
article { border: 1px solid #ccc; border-radius: 6px; padding: .5rem 1rem; margin: .8rem 0 } .soft { color: #555; margin: .1rem 0 } pre { font: inherit; white-space: pre-wrap; overflow-wrap: anywhere; margin: .3rem 0 }
</style>
<h1>What came in</h1>
<p class="soft">A chat, a mail server and an address for events, of the lab. {{len .}} messages; the newest first.</p>
{{range .}}<article><p class="soft">{{.At.Format "15:04:05"}} · {{.By}}{{if .To}} · to {{range $i, $x := .To}}{{if $i}}, {{end}}{{$x}}{{end}}{{end}}{{if eq .By "events"}} · {{if .Signed}}signed{{else}}not signed{{end}}{{end}}</p>
{{if .Subject}}<p><strong>{{.Subject}}</strong></p>{{end}}<pre>{{.Text}}</pre></article>
{{else}}<p>Nothing yet.</p>{{end}}
</html>`))

func (s *Server) page(w http.ResponseWriter, _ *http.Request) {
	all := s.Messages()
	slices.Reverse(all)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, all)
}

// session is one conversation of the mail server.
type session struct {
	s      *Server
	signed bool
	from   string
	to     []string
}

func (m *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (m *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != User || password != m.s.token {
			return smtp.ErrAuthFailed
		}
		m.signed = true
		return nil
	}), nil
}

func (m *session) Mail(from string, _ *smtp.MailOptions) error {
	if !m.signed {
		return smtp.ErrAuthRequired
	}
	m.from = from
	return nil
}

func (m *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") || m.s.mode("mail") == "refuse" {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is nobody of that name"}
	}
	m.to = append(m.to, to)
	return nil
}

func (m *session) Data(r io.Reader) error {
	switch m.s.mode("mail") {
	case "busy":
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "try again later"}
	case "slow":
		time.Sleep(5 * time.Second)
	}
	in, err := netmail.ReadMessage(r)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "that is no mail"}
	}
	subject, err := (&mime.WordDecoder{}).DecodeHeader(in.Header.Get("Subject"))
	if err != nil {
		subject = in.Header.Get("Subject")
	}
	out := Message{By: "mail", ID: in.Header.Get("Message-Id"), From: m.from, To: m.to, Subject: subject}
	if err := out.body(in.Header.Get("Content-Type"), in.Header.Get("Content-Transfer-Encoding"), in.Body); err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "its parts can't be read"}
	}
	m.s.take(out)
	return nil
}

func (m *session) Reset() { m.from, m.to = "", nil }

func (m *session) Logout() error { return nil }

// body reads the parts of a mail: the text, and the HTML beside it.
func (m *Message) body(form, encoding string, r io.Reader) error {
	kind, params, err := mime.ParseMediaType(form)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(kind, "multipart/") {
		if strings.EqualFold(encoding, "quoted-printable") {
			r = quotedprintable.NewReader(r)
		}
		text, err := io.ReadAll(r)
		if kind == "text/html" {
			m.HTML = string(text)
		} else {
			m.Text = strings.ReplaceAll(string(text), "\r\n", "\n")
		}
		return err
	}
	parts := multipart.NewReader(r, params["boundary"])
	for {
		p, err := parts.NextPart() // undoes quoted-printable by itself
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := m.body(p.Header.Get("Content-Type"), "", p); err != nil {
			return err
		}
	}
}
