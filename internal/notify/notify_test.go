package notify

import (
	"bufio"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/alert"
)

var at = time.Date(2026, 11, 27, 3, 4, 5, 0, time.UTC)

func envelope(kind alert.Kind, subjects ...string) Envelope {
	m := alert.Message{ID: "ops-1", Alert: "ops", Kind: kind, Topic: alert.WentBack, At: at}
	for _, s := range subjects {
		m.Items = append(m.Items, alert.Item{Subject: s, Text: "Went back to 0255ab5: <crash-loops>", By: "Revision a246c22 New zones, by ticketing", Todo: "vigila sync " + s + " --retry", Since: at.Add(-time.Minute), Link: "/wards/" + s, Owner: "ticketing", Cluster: "quay"})
	}
	return Envelope{ID: "ops-1.chat", Message: m, Console: "https://vigila.brindle.example/", Source: "/vigila/3f2a", Until: at.Add(6 * time.Hour)}
}

// taken is what a server was sent.
type taken struct {
	mu     sync.Mutex
	head   http.Header
	path   string
	body   []byte
	answer int
}

func (k *taken) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.head, k.path = r.Header, r.URL.Path
	k.body, _ = io.ReadAll(r.Body)
	if k.answer >= 300 && k.answer < 400 {
		w.Header().Set("Location", "/elsewhere")
	}
	w.WriteHeader(k.answer)
	_, _ = w.Write([]byte("you said: " + string(k.body)))
}

func server(t *testing.T, answer int) (*taken, string) {
	k := &taken{answer: answer}
	s := httptest.NewServer(k)
	t.Cleanup(s.Close)
	return k, s.URL
}

func TestEventsAreSigned(t *testing.T) {
	k, address := server(t, 204)
	key := []byte("an-owl-and-a-pussycat-went-to-sea")
	w := Way{Name: "pager", Kind: HTTP, URL: address + "/hook", Secret: "whsec_" + base64.StdEncoding.EncodeToString(key)}
	require.NoError(t, w.Check())
	require.NoError(t, w.Send(t.Context(), envelope(alert.Opened, "fare-gate@quay")))
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.%s", k.head.Get("webhook-id"), k.head.Get("webhook-timestamp"), k.body)
	assert.Equal(t, "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)), k.head.Get("webhook-signature"))
	assert.Equal(t, "ops-1.chat", k.head.Get("webhook-id"))
	assert.Equal(t, "application/cloudevents+json", k.head.Get("Content-Type"))
	var ev cloudevents.Event
	require.NoError(t, json.Unmarshal(k.body, &ev))
	require.NoError(t, ev.Validate())
	assert.Equal(t, []string{"1.0", "ops-1.chat", "dev.vigila.alert.opened", "fare-gate@quay", "/vigila/3f2a"}, []string{ev.SpecVersion(), ev.ID(), ev.Type(), ev.Subject(), ev.Source()})
	var m alert.Message
	require.NoError(t, ev.DataAs(&m))
	assert.Equal(t, "vigila sync fare-gate@quay --retry", m.Items[0].Todo)
}

func TestAChatIsToldWhatTheBoardSays(t *testing.T) {
	k, address := server(t, 200)
	w := Way{Name: "ops-chat", Kind: Chat, URL: address + "/hook/spring-tide-word"}
	require.NoError(t, w.Send(t.Context(), envelope(alert.Opened, "fare-gate@quay")))
	var said struct{ Text string }
	require.NoError(t, json.Unmarshal(k.body, &said))
	assert.Equal(t, "fare-gate@quay: went back\n\nWent back to 0255ab5: <crash-loops> (since 2026-11-27 03:03 UTC)\nRevision a246c22 New zones, by ticketing\nvigila sync fare-gate@quay --retry\nhttps://vigila.brindle.example/wards/fare-gate@quay", said.Text)
	e := envelope(alert.Over, "fare-gate@quay", "tide-gauge@quay")
	e.Message.More = 3
	text := Text(e)
	assert.Contains(t, text, "5 wards: over: went back\n\nfare-gate@quay: Went back")
	assert.Contains(t, text, "\nand 3 more")
	assert.NotContains(t, text, "by ticketing", "nor is anybody to be asked")
	assert.NotContains(t, text, "--retry", "there is nothing to be done any more")
}

func TestAnAlertmanagerIsToldWhenItBeganAndEnded(t *testing.T) {
	k, address := server(t, 200)
	w := Way{Name: "am", Kind: Alertmanager, URL: address + "/", Secret: "bearer-word"}
	for kind, until := range map[alert.Kind]time.Time{alert.Opened: at.Add(6 * time.Hour), alert.Over: at} {
		e := envelope(kind, "fare-gate@quay", "tide-gauge@quay")
		e.Message.Cause = "cluster quay, of " + string(kind)
		require.NoError(t, w.Send(t.Context(), e))
		assert.Equal(t, "/api/v2/alerts", k.path)
		assert.Equal(t, "Bearer bearer-word", k.head.Get("Authorization"))
		var all []struct {
			Labels, Annotations map[string]string
			StartsAt, EndsAt    time.Time
			GeneratorURL        string
		}
		require.NoError(t, json.Unmarshal(k.body, &all))
		require.Len(t, all, 2)
		assert.Equal(t, map[string]string{"alertname": "Vigila", "topic": "went back", "subject": "fare-gate@quay", "owner": "ticketing", "cluster": "quay"}, all[0].Labels, "the same for both, or it never ends there")
		assert.Equal(t, "Revision a246c22 New zones, by ticketing", all[0].Annotations["by"])
		assert.Equal(t, e.Message.Cause, all[0].Annotations["cause"])
		assert.Equal(t, []time.Time{at.Add(-time.Minute), until}, []time.Time{all[0].StartsAt, all[0].EndsAt})
		assert.Equal(t, "https://vigila.brindle.example/wards/fare-gate@quay", all[0].GeneratorURL)
	}
}

// TestAnswers: what is worth another try and what is not, and no address or body in any error.
func TestAnswers(t *testing.T) {
	for code, refused := range map[int]bool{200: false, 204: false, 301: true, 307: true, 400: true, 401: false, 403: false, 404: false, 408: false, 410: true, 413: true, 422: true, 425: false, 429: false, 500: false, 503: false} {
		k, address := server(t, code)
		err := Way{Name: "ops-chat", Kind: Chat, URL: address + "/hook/spring-tide-word"}.Send(t.Context(), envelope(alert.Opened, "fare-gate@quay"))
		if code < 300 {
			assert.NoError(t, err)
			continue
		}
		require.Error(t, err, code)
		var final *RefusedError
		assert.Equal(t, refused, assert.ErrorAs(nopT{}, err, &final), "%d: %v", code, err)
		assert.NotContains(t, err.Error(), "spring-tide-word")
		assert.NotContains(t, err.Error(), "you said")
		assert.Equal(t, "/hook/spring-tide-word", k.path, "no redirect is followed")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	gone := l.Addr().String()
	require.NoError(t, l.Close())
	err = Way{Name: "ops-chat", Kind: Chat, URL: "http://" + gone + "/hook/spring-tide-word"}.Send(t.Context(), envelope(alert.Opened, "fare-gate@quay"))
	assert.ErrorContains(t, err, "ops-chat does not answer")
	assert.NotContains(t, err.Error(), "spring-tide-word")
}

type nopT struct{}

func (nopT) Errorf(string, ...any) {}

// post is a mail server that takes a letter, or refuses it with a code.
func post(t *testing.T, code string) (address string, letter func() string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	got := make(chan string, 4)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = c.Close() }()
				in, said := bufio.NewScanner(c), func(line string) { _, _ = io.WriteString(c, line+"\r\n") }
				said("220 post")
				var text strings.Builder
				data := false
				for in.Scan() {
					line := in.Text()
					switch word := strings.ToUpper(strings.Fields(line + " x")[0]); {
					case data && line == ".":
						data = false
						got <- text.String()
						said("250 ok")
					case data:
						text.WriteString(line + "\n")
					case word == "RCPT" && code != "":
						said(code)
					case word == "DATA":
						data = true
						said("354 go on")
					case word == "QUIT":
						said("221 bye")
						return
					default:
						said("250 ok")
					}
				}
			}()
		}
	}()
	return l.Addr().String(), func() string {
		select {
		case s := <-got:
			return s
		case <-time.After(20 * time.Second):
			t.Fatal("no mail came")
			return ""
		}
	}
}

func TestMail(t *testing.T) {
	host, letter := post(t, "")
	w := Way{Name: "mail", Kind: Mail, Host: host, From: "vigila@brindle.example", Clear: true}
	require.NoError(t, w.Check())
	e := envelope(alert.Opened, "fare-gate@quay")
	e.To = []string{"ops@brindle.example"}
	require.NoError(t, w.Send(t.Context(), e))
	text := letter()
	for _, want := range []string{"From: <vigila@brindle.example>", "To: <ops@brindle.example>", "Subject: [vigila] fare-gate@quay: went back", "Message-ID: <ops-1.chat@vigila>", "vigila sync fare-gate@quay --retry", "text/html", "&lt;crash-loops&gt;"} {
		assert.Contains(t, text, want)
	}
	e.To = nil
	var final *RefusedError
	require.ErrorAs(t, w.Send(t.Context(), e), &final, "it names nobody")
	e.To = []string{"ops@brindle.example"}
	for code, refused := range map[string]bool{"550 no such box": true, "451 later": false} {
		w.Host, _ = post(t, code)
		err := w.Send(t.Context(), e)
		require.Error(t, err)
		assert.Equal(t, refused, assert.ErrorAs(nopT{}, err, &final), "%s: %v", code, err)
	}
	w.Host, w.Clear = host, false
	assert.Error(t, w.Send(t.Context(), e), "a server that takes no TLS gets nothing")
}

// TestAMailServerThatSaysNothing, or does not stop, holds nobody up: whoever sent by it waited for ever, and took in all that it said.
func TestAMailServerThatSaysNothing(t *testing.T) {
	send := func(says func(net.Conn), hangUp bool) (left <-chan struct{}, err error) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		gone := make(chan struct{})
		go func() {
			defer close(gone)
			c, err := l.Accept()
			if err != nil {
				return
			}
			says(c)
			if hangUp { // the time is over
				cancel()
			}
			_, _ = io.Copy(io.Discard, c)
			_ = c.Close()
		}()
		w := Way{Name: "mail", Kind: Mail, Host: l.Addr().String(), From: "vigila@brindle.example", To: []string{"ops@brindle.example"}, Clear: true}
		return gone, w.Send(ctx, envelope(alert.Opened, "fare-gate@quay"))
	}
	endlessly := func(text string) func(net.Conn) {
		return func(c net.Conn) {
			for all := strings.Repeat(text, 4096); ; {
				if _, err := io.WriteString(c, all); err != nil {
					return
				}
			}
		}
	}
	for name, says := range map[string]func(net.Conn){"nothing": func(net.Conn) {}, "half a word": func(c net.Conn) { _, _ = io.WriteString(c, "220") }, "a greeting": func(c net.Conn) { _, _ = io.WriteString(c, "220 mail\r\n") }} {
		left, err := send(says, true)
		assert.ErrorContains(t, err, "mail does not answer in time", name)
		<-left // and the connection is not kept
	}
	for name, says := range map[string]func(net.Conn){"lines": endlessly("220-harbour\r\n"), "one line": endlessly("2"), "no": func(c net.Conn) { _, _ = io.WriteString(c, "421 "+strings.Repeat("no ", 9000)+"\r\n") }} {
		left, err := send(says, false)
		assert.ErrorContains(t, err, "mail can't be reached, or does not take it now", name)
		assert.Less(t, len(err.Error()), 500, name)
		<-left
	}
}

// TestTLSFromTheFirstByteOn: the client of SMTP is given a connection that is encrypted already, to whom the authority says it is.
func TestTLSFromTheFirstByteOn(t *testing.T) {
	server := httptest.NewTLSServer(http.NotFoundHandler())
	defer server.Close()
	authority := x509.NewCertPool()
	authority.AddCert(server.Certificate())
	c, err := dials(t.Context(), &tls.Config{RootCAs: authority, ServerName: "example.com"})(t.Context(), "tcp", server.Listener.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	secured, is := c.(*tls.Conn)
	require.True(t, is)
	assert.True(t, secured.ConnectionState().HandshakeComplete)
	_, err = dials(t.Context(), &tls.Config{ServerName: "example.com"})(t.Context(), "tcp", server.Listener.Addr().String())
	assert.ErrorContains(t, err, "certificate", "whom nobody vouches for")
}

func TestWhatCanBeAWay(t *testing.T) {
	for want, w := range map[string]Way{
		"there is no way of the kind":      {Kind: "pigeon"},
		"its address is none":              {Kind: Chat, URL: "chat.brindle.example"},
		"over plain HTTP":                  {Kind: Chat, URL: "http://chat.brindle.example/x"},
		"holds a user":                     {Kind: HTTP, URL: "https://a:b@chat.brindle.example/x"},
		"its key is none":                  {Kind: HTTP, URL: "https://chat.brindle.example/x", Secret: "short"},
		"no certificate in PEM":            {Kind: HTTP, URL: "https://chat.brindle.example/x", CA: "x"},
		"authority holds no":               {Kind: Mail, Host: "mail.brindle.example:587", From: "a@brindle.example", CA: "x"},
		"write HOST:PORT":                  {Kind: Mail, Host: "mail.brindle.example", From: "a@brindle.example"},
		`"nobody" is no mail address`:      {Kind: Mail, Host: "mail.brindle.example:587", From: "nobody"},
		"only to a server on this machine": {Kind: Mail, Host: "mail.brindle.example:25", From: "a@brindle.example", Clear: true},
		"a password, and no user":          {Kind: Mail, Host: "mail.brindle.example:587", From: "a@brindle.example", Secret: "x"},
	} {
		assert.ErrorContains(t, w.Check(), want)
	}
	assert.NoError(t, Way{Kind: Mail, Host: "mail.brindle.example:587", From: "Vigila <vigila@brindle.example>", To: []string{"ops@brindle.example"}}.Check())
}

func TestWhomAWayLeadsTo(t *testing.T) {
	chat, mail, both := Way{Name: "ops-chat", Kind: Chat}, Way{Name: "mail", Kind: Mail}, Way{Name: "mail", Kind: Mail, To: []string{"ops@brindle.example"}}
	for _, c := range []struct {
		w    Way
		to   []string
		want string
	}{
		{chat, nil, ""}, {both, nil, ""}, {mail, []string{"a@brindle.example"}, ""},
		{chat, []string{"#gale"}, "it leads to one place, not to #gale; write ops-chat alone"},
		{mail, nil, "neither names an address; write {mail: [ADDRESS]}"},
		{both, []string{"ops"}, `"ops" is no mail address`},
	} {
		if err := c.w.Leads(c.to); c.want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, c.want)
		}
	}
}
