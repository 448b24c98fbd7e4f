package e2e

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// TestSecretsOfALookoutsClusterStayThere: a store that is a namespace of a cluster that a lookout keeps is read by the lookout; the service is told whether
// the values are there and whether they are others, and no value.
func TestSecretsOfALookoutsClusterStayThere(t *testing.T) {
	t.Parallel()
	p := planted{}
	s := newService(t)
	secret := func(name string) string {
		return fmt.Sprintf("apiVersion: v1\nkind: Secret\nmetadata: {name: %s}\nstringData: {password: \"secret://vault/%s#password\"}\n", name, s.name+"-vault")
	}
	s.push("A gate with a password", map[string]string{"app/c.yaml": config(s.name, "berths", "2") + "---\n" + secret("gate")})
	s.lookoutOf("quay")
	s.here("quay", true)
	s.ok("store", "add", "vault", "--namespace", "quay/default", "--every", "5s")
	assert.Regexp(t, `vault +quay/default +in quay`, s.ok("store", "list"))
	s.add(s.wardFile("sync: auto, every: 1s, drift: report", "within: 30s"))
	s.until("waits for the value", func(w client.Ward) bool { return strings.Contains(w.Says, "vault/") })
	assert.Contains(t, s.ok("secret", "list"), "missing")

	s.pipe(p.in("a first value"), "secret", "set", "vault/"+s.name+"-vault#password")
	s.until("in step", inStepAndReady)
	assert.Equal(t, p["a first value"], s.values("gate")["password"])
	assert.Contains(t, s.ok("secret", "list"), "set")
	assert.Contains(t, s.ok("logbook", s.name), "vault/")

	lab(t, "edit", "secret/"+s.name+"-vault", "--kubeconfig", kubeconfig(), "-n", "default", "--as", "rotation", "data.password="+base64.StdEncoding.EncodeToString([]byte(p.in("a second value"))))
	s.ok("store", "try", "vault")
	s.until("has the other", func(w client.Ward) bool {
		return inStepAndReady(w) && s.values("gate")["password"] == p["a second value"]
	})

	// A ward in another cluster is refused, before anything is applied.
	s.ok("cluster", "add", "pier", "--kubeconfig", kubeconfig())
	s.add(strings.NewReplacer("name: "+s.name+"\n", "name: "+s.name+"-pier\n", "cluster: quay", "cluster: pier", "namespace: "+s.name, "namespace: "+s.name+"-pier").Replace(s.wardFile("sync: auto, every: 1s, drift: report", "within: 30s")))
	require.Eventually(t, func() bool {
		out, _, _ := s.cli("ward", "show", s.name+"-pier")
		return strings.Contains(strings.Join(strings.Fields(out), " "), "store vault is read in cluster quay, whose lookout lets no value out of it")
	}, patience, 50*time.Millisecond)

	s.kill()
	p.found(t, s.log.String(), "the log")
	p.foundIn(t, s)
}

// TestAServerThatOnlyTheLookoutReaches: where it is and what signs in to it the lookout has been told, and the service never is; no value goes to it.
func TestAServerThatOnlyTheLookoutReaches(t *testing.T) {
	t.Parallel()
	p := planted{}
	s := newService(t)
	path := s.name + "/gate"
	s.push("A gate with a password", map[string]string{"app/c.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: gate}\nstringData: {password: \"secret://quay-kv/" + path + "#password\"}\n"})
	l := s.lookoutOf("quay")
	s.here("quay", true)
	s.fails(1, "was given no stores; say in a file where it is, and give that to the lookout with --stores", "store", "add", "quay-kv", "--by-lookout", "quay")
	l.kill()
	l.args = append(l.args, "--stores", s.file("stores.yaml", "vigila: store/v1\nname: quay-kv\nurl: "+kvBase+"\n"), "--store-token", "quay-kv="+s.file("kv-token", kvToken))
	l.start()
	s.here("quay", true)
	s.fails(1, "its lookout knows no such store, but quay-kv", "store", "add", "harbour", "--by-lookout", "quay")
	s.fails(1, "there is no cluster", "store", "add", "quay-kv", "--by-lookout", "skerry")
	s.fails(2, "say where the store is, once", "store", "add", "quay-kv", kvBase, "--by-lookout", "quay")
	s.ok("store", "add", "quay-kv", "--by-lookout", "quay", "--every", "5s")
	assert.Regexp(t, `quay-kv +the lookout of quay +in quay`, s.ok("store", "list"))
	s.add(s.wardFile("sync: auto, every: 1s, drift: report", "within: 30s"))
	s.until("waits for the value", func(w client.Ward) bool { return strings.Contains(w.Says, "quay-kv/") })

	s.pipe(p.in("a first value"), "secret", "set", "quay-kv/"+path+"#password")
	s.until("in step", inStepAndReady)
	assert.Equal(t, p["a first value"], s.values("gate")["password"])
	kvPut(t, path, map[string]any{"password": p.in("a second value")})
	s.ok("store", "try", "quay-kv")
	s.until("has the other", func(w client.Ward) bool {
		return inStepAndReady(w) && s.values("gate")["password"] == p["a second value"]
	})

	// A declared one is the same; and a cluster that no lookout keeps has none.
	s.ok("cluster", "add", "pier", "--kubeconfig", kubeconfig())
	s.fails(1, "no lookout keeps cluster pier; give the address of the server", "store", "add", "pier-kv", "--by-lookout", "pier")
	s.push("Declare another", map[string]string{"wards/store.yaml": "vigila: store/v1\nname: quay-kv-declared\nby_lookout: quay\n"})
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	require.Eventually(t, func() bool {
		out, _, _ := s.cli("store", "list")
		return strings.Contains(out, "quay-kv-declared")
	}, patience, 50*time.Millisecond)
	out, _, _ := s.cli("store", "try", "quay-kv-declared")
	assert.NotContains(t, out, kvToken)

	// In the console it is a kind of its own, which asks for nothing but the cluster.
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("Watch")
	b.open(s.url + "/stores")
	b.shows("the lookout of quay")
	b.click("Add a store")
	b.fill("name", "quay-kv")
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => {
		const s = document.getElementById("form");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "a server, by a lookout");
		return s.dispatchEvent(new Event("change", { bubbles: true }));
	})()`))
	require.NoError(t, err)
	b.fill("cluster", "pier")
	b.click("Check and add it")
	b.shows("no lookout keeps cluster pier")
	b.fill("cluster", "quay")
	b.fill("about", "what the quay signs in with")
	b.click("Check and add it")
	b.shows("what the quay signs in with")

	p["the token"] = kvToken
	s.kill()
	p.found(t, s.log.String(), "the log")
	p.found(t, l.log.String(), "the lookout's log")
	p.foundIn(t, s)
}
