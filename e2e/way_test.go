package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// inboxToken is in the addresses of the lab's chat and events, and is the mail server's password.
const inboxToken = "plant-inbox-kelp-9c1f"

// eventKey signs what the lab's address for events believes.
const eventKey = "whsec_dGhlLWxhYi1zaWducy13aXRoLXRoaXMta2V5LW9ubHk="

// received is what the lab's inbox shows of a message.
type received struct {
	By, ID, From, Subject, Text, HTML string
	To                                []string
	Signed                            bool
}

// inbox is what came in by chat, mail or events about something.
func inbox(t *testing.T, by, about string) (out []received) {
	t.Helper()
	var all []received
	require.NoError(t, readJSON(inboxURL+"/messages", &all))
	for _, m := range all {
		if m.By == by && strings.Contains(m.Text, about) {
			out = append(out, m)
		}
	}
	return out
}

// readJSON reads JSON from an address of loopback.
func readJSON(address string, into any) error {
	r, err := http.Get(address)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return fmt.Errorf("%s", r.Status)
	}
	return json.NewDecoder(r.Body).Decode(into)
}

func inboxMode(t *testing.T, of, mode string) {
	t.Helper()
	q, err := http.NewRequest(http.MethodPut, inboxURL+"/lab/mode", strings.NewReader(fmt.Sprintf(`{"of": %q, "mode": %q}`, of, mode)))
	require.NoError(t, err)
	r, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	require.Equal(t, http.StatusNoContent, r.StatusCode)
}

// beside runs a program of Debian's on a loopback port until the test ends; scripts/prepare installs it. ready is a path that answers once it is up.
func beside(t *testing.T, ready string, program string, args func(address string) []string) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = l.Addr().String()
	require.NoError(t, l.Close())
	c := exec.Command(program, args(address)...)
	c.Dir = t.TempDir()
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, c.Start(), "scripts/prepare installs it")
	t.Cleanup(func() { _, _ = c.Process.Kill(), c.Wait() })
	require.Eventually(t, func() bool {
		r, err := http.Get("http://" + address + ready)
		return err == nil && r.Body.Close() == nil && r.StatusCode == http.StatusOK
	}, patience, 50*time.Millisecond, program+" is not up")
	return "http://" + address
}

// heard are the alerts of an Alertmanager about a subject, that last.
func heard(t *testing.T, alertmanager, subject string) (out []map[string]any) {
	t.Helper()
	require.NoError(t, readJSON(alertmanager+"/api/v2/alerts?active=true&filter="+url.QueryEscape(`subject="`+subject+`"`), &out))
	return out
}

// TestEveryWayLeadsThere: a chat, mail over TLS with a sign-in, signed events and Debian's Alertmanager are told once that a ward needs somebody and once that it
// is over, through kills and a mail server that is busy; whom nobody can reach is told of; and no address, key or password is anywhere.
func TestEveryWayLeadsThere(t *testing.T) {
	t.Parallel()
	am := beside(t, "/-/ready", "prometheus-alertmanager", func(address string) []string {
		conf := filepath.Join(t.TempDir(), "am.yml")
		require.NoError(t, os.WriteFile(conf, []byte("route: {receiver: none}\nreceivers: [{name: none}]\n"), 0o600))
		return []string{"--config.file=" + conf, "--storage.path=" + t.TempDir(), "--web.listen-address=" + address, "--cluster.listen-address="}
	})
	s := newService(t)
	s.kill()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	profiles := l.Addr().String()
	require.NoError(t, l.Close())
	s.args = append(s.args, "--profiles", profiles)
	s.start()
	p := planted{"the token of chat, events and mail": inboxToken, "the key that signs": eventKey}
	var said strings.Builder
	cli := func(args ...string) string {
		out, errs, _ := s.cli(args...)
		said.WriteString(out + errs)
		return out + errs
	}
	secret := func(text string) string { return s.file("secret", text+"\n") }
	cli("alert", "way", "add", "all-chat", "--kind", "chat", "--url-file", secret(inboxURL+"/hook/"+inboxToken), "--console", s.url)
	cli("alert", "way", "add", "events", "--kind", "http", "--url-file", secret(inboxURL+"/events/"+inboxToken), "--token-file", s.file("key", eventKey))
	cli("alert", "way", "add", "am", "--kind", "alertmanager", "--url-file", secret(am), "--token-file", s.file("bearer", p.in("the token of an Alertmanager")), "--console", s.url)
	cli("alert", "way", "add", "mail", "--kind", "mail", "--server", mailAt, "--user", "vigila", "--token-file", secret(inboxToken), "--ca-file", mailCA, "--from", "vigila@brindle.example", "--console", s.url)
	cli("alert", "way", "add", "wrong", "--kind", "chat", "--url-file", secret(inboxURL+"/hook/"+p.in("an address that nobody has")))
	cli("alert", "way", "add", "unsigned", "--kind", "mail", "--server", mailAt, "--user", "vigila", "--token-file", secret(p.in("a wrong password")), "--ca-file", mailCA, "--from", "vigila@brindle.example", "--to", "ops@brindle.example")
	cli("alert", "way", "add", "nowhere", "--kind", "http", "--url-file", secret("http://127.0.0.1:1/"+p.in("an address where nobody is")), "--token-file", s.file("key", "whsec_none"+p.in("a key that is none")))
	cli("alert", "way", "add", "nowhere", "--kind", "http", "--url-file", secret("http://127.0.0.1:1/"+p.in("an address where nobody is")))
	for way, want := range map[string]string{"wrong": "wrong does not take it: 404", "unsigned": "AUTH failed: 535", "nowhere": "nowhere does not answer"} {
		assert.Contains(t, cli("alert", "way", "try", way), want)
	}

	one := wardText("ways-one", "ways-one", auto)
	s.push("All", map[string]string{"apps/ways-one/c.yaml": config("mark", "v", "one"), "wards/one.yaml": one,
		"wards/told.yaml": "vigila: alert/v1\nname: watch\nfor: the watch of the harbour\nafter: 1s\nto: [all-chat, events, am, {mail: [ops@brindle.example, nobody@brindle.example]}]\n"})
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	s.untilOf("ways-one@quay", "is in step", inStepAndReady)
	tried := cli("alert", "try", "watch")
	assert.Contains(t, tried, "all-chat took the message.")
	assert.Contains(t, tried, "1 of 4 ways did not take it", "there is nobody of that name")
	assert.Contains(t, tried, "mail to ops@brindle.example, nobody@brindle.example: mail refuses it: 550")

	inboxMode(t, "mail", "busy")
	s.push("Break one", map[string]string{"wards/one.yaml": one + "kep: {}\n"})
	s.untilOf("ways-one@quay", "needs somebody", func(w client.Ward) bool { return w.NeedsYou })
	require.Eventually(t, func() bool { // and what the others took is written down: a service that dies before tells it again
		left := cli("alert", "log", "--undelivered")
		return strings.Contains(left, "not delivered yet, tried 1 time") && !strings.Contains(left, "by all-chat") && !strings.Contains(left, "by events")
	}, patience, 100*time.Millisecond)
	for range 2 {
		s.kill()
		s.start()
	}
	inboxMode(t, "mail", "well")
	const what = "unknown key kep; did you mean keep?"
	until := func(what string, cond func() bool) {
		t.Helper()
		require.Eventually(t, cond, 3*patience, 100*time.Millisecond, what)
	}
	until("all are told", func() bool {
		return len(inbox(t, "chat", what)) > 0 && len(inbox(t, "events", what)) > 0 && len(inbox(t, "mail", what)) > 0 && len(heard(t, am, "ways-one@quay")) > 0
	})
	until("whom nobody can reach is given up", func() bool {
		return strings.Contains(cli("alert", "log", "--undelivered"), "given up: mail refuses it: 550")
	})
	assert.Contains(t, s.metrics(), `vigila_delivery_tries_total{result="delivered",way="mail"}`)
	assert.Contains(t, s.metrics(), `vigila_troubles{cluster="quay",owner="harbour-ops",topic="needs you"} 1`)
	mail := inbox(t, "mail", what)[0]
	assert.Equal(t, []string{"ops@brindle.example"}, mail.To)
	assert.Equal(t, "vigila@brindle.example", mail.From)
	assert.Equal(t, "[vigila] ways-one@quay: needs you", mail.Subject)
	assert.Contains(t, mail.HTML, `<a href="`+s.url+`/wards/ways-one@quay">`)
	event := inbox(t, "events", what)[0]
	assert.True(t, event.Signed)
	assert.Equal(t, "dev.vigila.alert.opened ways-one@quay", event.Subject)
	labels := heard(t, am, "ways-one@quay")[0]["labels"].(map[string]any)
	assert.Equal(t, map[string]any{"alertname": "Vigila", "topic": "needs you", "subject": "ways-one@quay", "owner": "harbour-ops", "cluster": "quay"}, labels)

	p.inProfiles(t, profiles)
	s.push("Mend one", map[string]string{"wards/one.yaml": one})
	s.untilOf("ways-one@quay", "is in step again", inStepAndReady)
	const over = "ways-one@quay: over: needs you"
	until("all are told that it is over", func() bool {
		return len(inbox(t, "chat", over)) > 0 && len(inbox(t, "mail", over)) > 0 && len(heard(t, am, "ways-one@quay")) == 0
	})
	until("events say it too", func() bool {
		for _, m := range inbox(t, "events", what) {
			if m.Subject == "dev.vigila.alert.over ways-one@quay" {
				return true
			}
		}
		return false
	})
	for by, text := range map[string]string{"chat": "ways-one@quay: needs you", "mail": "ways-one@quay: needs you"} {
		assert.Len(t, inbox(t, by, text), 1, "%s was told once", by)
	}
	for _, args := range [][]string{{"alert", "list"}, {"alert", "list", "-o", "json"}, {"alert", "log"}, {"alert", "log", "-o", "json"}, {"alert", "way", "list"}, {"alert", "way", "list", "-o", "json"}, {"logbook"}, {"audit", "-o", "json"}, {"ward", "show", "ways-one@quay", "-o", "json"}} {
		cli(args...)
	}
	said.WriteString(s.metrics())
	require.Contains(t, said.String(), "all-chat", "they were asked for")
	s.kill()
	p.found(t, said.String(), "what was told")
	p.found(t, s.log.String(), "the log")
	p.foundIn(t, s)
}

// TestAPrometheusIsTold: Debian's Prometheus reads the metrics, takes the alerting rules, and answers every question of the dashboard.
func TestAPrometheusIsTold(t *testing.T) {
	t.Parallel()
	s := newService(t)
	one := wardText("watched-one", "watched-one", auto)
	s.push("All", map[string]string{"apps/watched-one/c.yaml": config("mark", "v", "one"), "wards/one.yaml": one})
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	s.untilOf("watched-one@quay", "is in step", inStepAndReady)
	s.push("Break one", map[string]string{"wards/one.yaml": one + "kep: {}\n"})
	s.untilOf("watched-one@quay", "needs somebody", func(w client.Ward) bool { return w.NeedsYou })
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules.yaml"), []byte(s.ok("metrics-rules")), 0o600))
	conf := filepath.Join(dir, "prometheus.yml")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, "global: {scrape_interval: 1s, evaluation_interval: 1s}\nrule_files: [%s]\nscrape_configs:\n- job_name: vigila\n  authorization: {credentials: %s}\n  static_configs: [{targets: [%q]}]\n",
		filepath.Join(dir, "rules.yaml"), s.token, strings.TrimPrefix(s.url, "http://")), 0o600))
	prometheus := beside(t, "/-/ready", "prometheus", func(address string) []string {
		return []string{"--config.file=" + conf, "--storage.tsdb.path=" + filepath.Join(dir, "data"), "--web.listen-address=" + address}
	})
	var pending struct {
		Data struct {
			Alerts []struct {
				State  string
				Labels map[string]string
			}
		}
	}
	require.Eventually(t, func() bool {
		require.NoError(t, readJSON(prometheus+"/api/v1/alerts", &pending))
		for _, a := range pending.Data.Alerts {
			if a.Labels["alertname"] == "VigilaNeedsYou" && a.Labels["owner"] == "harbour-ops" && a.Labels["cluster"] == "quay" {
				return true
			}
		}
		return false
	}, patience, 100*time.Millisecond)
	var rules struct {
		Data struct {
			Groups []struct {
				Rules []struct{ Name, Health, LastError string }
			}
		}
	}
	require.NoError(t, readJSON(prometheus+"/api/v1/rules", &rules))
	require.Len(t, rules.Data.Groups, 1)
	for _, r := range rules.Data.Groups[0].Rules {
		assert.Equal(t, "ok", r.Health, "%s: %s", r.Name, r.LastError)
	}
	var dashboard struct {
		Panels []struct {
			Title   string
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(s.ok("dashboard")), &dashboard))
	shown := map[string]string{}
	for _, panel := range dashboard.Panels {
		for _, q := range panel.Targets {
			var answer struct {
				Data struct {
					Result []struct{ Value [2]any }
				}
			}
			expr := strings.ReplaceAll(q.Expr, "$__rate_interval", "1m")
			require.NoError(t, readJSON(prometheus+"/api/v1/query?query="+url.QueryEscape(expr), &answer), "%s: %s", panel.Title, expr)
			if len(answer.Data.Result) > 0 {
				shown[panel.Title] = fmt.Sprint(answer.Data.Result[0].Value[1])
			}
		}
	}
	assert.Equal(t, "1", shown["Wards"])
	assert.Equal(t, "0", shown["In step and ready"])
	assert.NotEqual(t, "0", shown["Need somebody"])
	assert.Equal(t, "0", shown["Can't be read"])
	assert.Contains(t, shown, "What needs somebody")
	assert.Contains(t, shown, "Memory and renderings")
}
