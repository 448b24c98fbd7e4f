// Package notify delivers messages: as CloudEvents over HTTP, as mail, into a chat, and to an Alertmanager. It knows nothing of when; what can't be delivered now is
// tried again by whoever asks. Start with Way.
package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/loopback"
)

// The kinds of ways.
const (
	HTTP         = "http"         // CloudEvents 1.0, signed as Standard Webhooks
	Mail         = "mail"         // SMTP
	Chat         = "chat"         // the incoming webhook that most chats take
	Alertmanager = "alertmanager" // its API, version 2
)

// Kinds are all of them.
var Kinds = []string{Alertmanager, Chat, HTTP, Mail}

// Way is how messages get to people.
type Way struct {
	Name, Kind string
	// URL is where to, of all but mail; of a chat it is secret itself, since whoever has it may write there.
	URL string
	CA  string // PEM of who signs its certificate; "" for the machine's own
	// Secret signs what goes over HTTP (whsec_ and a key in base64), or is the password of the mail server; a bearer token of an Alertmanager.
	Secret string

	Host string // of the mail server: HOST:PORT
	User string // at the mail server; "" signs in to none
	From string // address that mail comes from
	To   []string
	// Clear lets mail go unencrypted to a server on this machine.
	Clear bool
}

// Envelope is a message on its way.
type Envelope struct {
	ID      string // the same at every try
	Message alert.Message
	Console string    // address of the console, that links begin with; "" for no links
	Source  string    // who sends it, as a URI reference
	To      []string  // whom, where a way leads to several
	Until   time.Time // when it is told again, so that what receives it knows how long it holds; zero when it is not
}

// RefusedError tells that a message will never be taken: trying again changes nothing.
type RefusedError struct{ Text string }

func (e *RefusedError) Error() string { return e.Text }

// timeout is how long one delivery may take, and maxAnswer how much of an answer is read.
const (
	timeout   = 20 * time.Second
	maxAnswer = 4 << 10
)

// Check refuses what can't be a way.
func (w Way) Check() error {
	if w.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(w.CA)) {
		return errors.New("its authority holds no certificate in PEM")
	}
	switch w.Kind {
	case Mail:
		return w.checkMail()
	case HTTP, Chat, Alertmanager:
	default:
		return fmt.Errorf("there is no way of the kind %q; write %s", w.Kind, strings.Join(Kinds, ", "))
	}
	u, err := url.Parse(w.URL)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return errors.New("its address is none; write https://…") // unquoted: it may be secret
	case loopback.InTheClear(w.URL):
		return errors.New("over plain HTTP whoever is on the way could read it; write https://")
	case u.User != nil:
		return errors.New("its address holds a user; give a token apart")
	}
	if w.Kind == HTTP && w.Secret != "" {
		if _, err := signingKey(w.Secret); err != nil {
			return err
		}
	}
	return nil
}

// Leads refuses whom an alert names where the way does not lead to them: anybody where it leads to one place, and nobody where it leads to none by itself.
func (w Way) Leads(to []string) error {
	if w.Kind != Mail {
		if len(to) > 0 {
			return fmt.Errorf("it leads to one place, not to %s; write %s alone", strings.Join(to, ", "), w.Name)
		}
		return nil
	}
	if len(to)+len(w.To) == 0 {
		return fmt.Errorf("neither names an address; write {%s: [ADDRESS]}", w.Name)
	}
	return mailAddresses(to)
}

// Send delivers a message. A *RefusedError means that it never will be taken; other errors are worth another try. No error holds an address or a secret.
func (w Way) Send(ctx context.Context, e Envelope) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	switch w.Kind {
	case HTTP:
		return w.event(ctx, e)
	case Chat:
		return w.post(ctx, w.URL, "application/json", mustJSON(map[string]string{"text": Text(e)}), nil)
	case Alertmanager:
		return w.alerts(ctx, e)
	case Mail:
		return w.mail(ctx, e)
	}
	return &RefusedError{fmt.Sprintf("there is no way of the kind %q", w.Kind)}
}

func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // it is made of texts and times
	}
	return b
}

// EventType begins the types of events.
const EventType = "dev.vigila.alert."

// event sends a CloudEvent, signed. Source: https://github.com/cloudevents/spec/blob/v1.0.2/cloudevents/bindings/http-protocol-binding.md (structured mode), and
// https://github.com/standard-webhooks/standard-webhooks/blob/main/spec/standard-webhooks.md
func (w Way) event(ctx context.Context, e Envelope) error {
	ev := cloudevents.New()
	ev.SetID(e.ID)
	ev.SetSource(e.Source)
	ev.SetType(EventType + string(e.Message.Kind))
	ev.SetSubject(e.Message.Items[0].Subject)
	ev.SetTime(e.Message.At)
	if err := ev.SetData(cloudevents.ApplicationJSON, e.Message); err != nil {
		return &RefusedError{"it can't be written as an event: " + err.Error()}
	}
	body, err := json.Marshal(ev)
	if err != nil {
		return &RefusedError{"it can't be written as an event: " + err.Error()}
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	head := map[string]string{"webhook-id": e.ID, "webhook-timestamp": at}
	if w.Secret != "" {
		key, err := signingKey(w.Secret)
		if err != nil {
			return &RefusedError{err.Error()}
		}
		mac := hmac.New(sha256.New, key)
		mac.Write([]byte(e.ID + "." + at + "."))
		mac.Write(body)
		head["webhook-signature"] = "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
	}
	return w.post(ctx, w.URL, cloudevents.ApplicationCloudEventsJSON, body, head)
}

// keyPrefix begins a signing key, as Standard Webhooks writes it.
const keyPrefix = "whsec_"

func signingKey(secret string) ([]byte, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, keyPrefix))
	if err != nil || !strings.HasPrefix(secret, keyPrefix) || len(key) < 24 || len(key) > 64 {
		return nil, fmt.Errorf("its key is none: %s and 24 to 64 bytes in base64, such as of: openssl rand -base64 32", keyPrefix)
	}
	return key, nil
}

// alerts posts what an Alertmanager takes: one alert a trouble. Source: https://github.com/prometheus/alertmanager/blob/main/api/v2/openapi.yaml
func (w Way) alerts(ctx context.Context, e Envelope) error {
	type posted struct {
		Labels       map[string]string `json:"labels"`
		Annotations  map[string]string `json:"annotations"`
		StartsAt     time.Time         `json:"startsAt,omitzero"`
		EndsAt       time.Time         `json:"endsAt,omitzero"`
		GeneratorURL string            `json:"generatorURL,omitempty"`
	}
	m := e.Message
	all := []posted{}
	for _, i := range m.Items {
		p := posted{Labels: map[string]string{"alertname": "Vigila", "topic": string(m.Topic), "subject": i.Subject}, Annotations: map[string]string{"summary": i.Text}, StartsAt: i.Since}
		for name, v := range map[string]string{"owner": i.Owner, "cluster": i.Cluster} {
			if v != "" {
				p.Labels[name] = v
			}
		}
		if m.Cause != "" { // no label: they are what an Alertmanager knows it by when it is over, and a cause may change meanwhile
			p.Annotations["cause"] = m.Cause
		}
		if i.By != "" {
			p.Annotations["by"] = i.By
		}
		if i.Todo != "" {
			p.Annotations["todo"] = i.Todo
		}
		p.GeneratorURL = link(e.Console, i.Link)
		if p.StartsAt.IsZero() || p.StartsAt.After(m.At) {
			p.StartsAt = m.At
		}
		if p.EndsAt = e.Until; m.Kind == alert.Over {
			p.EndsAt = m.At
		}
		all = append(all, p)
	}
	var head map[string]string
	if w.Secret != "" {
		head = map[string]string{"Authorization": "Bearer " + w.Secret}
	}
	return w.post(ctx, strings.TrimRight(w.URL, "/")+"/api/v2/alerts", "application/json", mustJSON(all), head)
}

// client follows no redirect: what is sent would go to whom nobody named.
func (w Way) client() *http.Client {
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12}, DisableKeepAlives: true}
	if w.CA != "" {
		t.TLSClientConfig.RootCAs = x509.NewCertPool()
		t.TLSClientConfig.RootCAs.AppendCertsFromPEM([]byte(w.CA))
	}
	return &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

func (w Way) post(ctx context.Context, address, form string, body []byte, head map[string]string) error {
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return &RefusedError{"its address is none"}
	}
	q.Header.Set("Content-Type", form)
	q.Header.Set("User-Agent", "vigila")
	for k, v := range head {
		q.Header.Set(k, v)
	}
	r, err := w.client().Do(q)
	if err != nil {
		return fmt.Errorf("%s does not answer: %w", w.Name, bare(err))
	}
	defer func() { _ = r.Body.Close() }()
	_, _ = io.CopyN(io.Discard, r.Body, maxAnswer) // what it says may repeat what it was told
	switch {
	case r.StatusCode < 300:
		return nil
	case r.StatusCode < 400:
		return &RefusedError{fmt.Sprintf("%s leads elsewhere (%s), where nothing is sent to; give the address it leads to", w.Name, bounded.Status(r.StatusCode))}
	case r.StatusCode == http.StatusRequestTimeout || r.StatusCode == http.StatusTooManyRequests || r.StatusCode == http.StatusTooEarly || r.StatusCode >= 500:
		return fmt.Errorf("%s can't take it now: %s", w.Name, bounded.Status(r.StatusCode))
	case r.StatusCode == http.StatusUnauthorized || r.StatusCode == http.StatusForbidden || r.StatusCode == http.StatusNotFound: // a person may mend that
		return fmt.Errorf("%s does not take it: %s; see its address and key: vigila alert way try %s", w.Name, bounded.Status(r.StatusCode), w.Name)
	}
	return &RefusedError{fmt.Sprintf("%s refuses it: %s", w.Name, bounded.Status(r.StatusCode))}
}

// bare is an error without the address, which may be secret.
func bare(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}

func link(console, path string) string {
	if console == "" || path == "" {
		return ""
	}
	return strings.TrimRight(console, "/") + path
}
