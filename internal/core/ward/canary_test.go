package ward

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const head = "vigila: ward/v1\nname: a\nfrom: {repo: r}\ninto: {cluster: c, namespace: n}\n"

func TestACanaryIsRead(t *testing.T) {
	all, err := Parse("w.yaml", []byte(head+`canary:
  - of: Deployment/gate
    by: [HTTPRoute/gate, HTTPRoute/side]
    shares: [5, 20%, {at: 50, for: 30m}, {at: 80, until: person}]
    each: 10m
    within: 3h
    checks: [errors, load]
checks:
  errors: {query: 'rate(x{pod=~"${{ new.pods }}"}[1m])', from: harbour-metrics, good: value < 1.5 * old.value, misses: {in_a_row: 3}, no_data: miss}
  load: {load: {url: "http://gate.brindle.example/", rate: 20/s, headers: {X-Track: new}}, good: load.failed == 0, every: 5s, misses: 2}
`))
	require.NoError(t, err)
	w := all[0]
	assert.Equal(t, Canary{Of: "Deployment/gate", Routes: []string{"HTTPRoute/gate", "HTTPRoute/side"}, Line: 6,
		Shares: []Share{{At: 5, For: 10 * time.Minute}, {At: 20, For: 10 * time.Minute}, {At: 50, For: 30 * time.Minute}, {At: 80, Person: true}},
		Within: 3 * time.Hour, Checks: []string{"errors", "load"}}, w.Canary[0])
	errors, ok := w.Find("errors", nil)
	require.True(t, ok)
	assert.Equal(t, []any{10 * time.Second, 3, Miss, "2 in a row"}, []any{errors.Every, errors.InARow, errors.NoData, errors.Bears()})
	load, _ := w.Find("load", nil)
	assert.Equal(t, []any{20, 5 * time.Second, "2 in all", "new"}, []any{load.Load.Rate, load.Every, load.Bears(), load.Load.Headers[TrackHeader]})
	_, ok = w.Find("latency", nil)
	assert.False(t, ok)
	assert.Contains(t, w.CanaryText(nil), "http://gate.brindle.example/", "a digest follows what pointers lead to")
}

func TestMistakesOfACanary(t *testing.T) {
	const good, shares = "of: Deployment/gate, by: HTTPRoute/gate, within: 1h, each: 1m", "shares: [5, 50]"
	for name, c := range map[string]struct{ canary, checks, want string }{
		"no deadline":             {"of: Deployment/gate, by: HTTPRoute/gate, each: 1m, " + shares, "", "w.yaml:5: each entry of canary needs within: how long the whole may take"},
		"no way":                  {"of: Deployment/gate, within: 1h, each: 1m, " + shares, "", "needs by: the route that leads to it"},
		"nothing":                 {"by: replicas, within: 1h, each: 1m, " + shares, "", "needs of: a workload"},
		"no shares":               {good, "", "needs shares: percents of the traffic"},
		"shares that fall":        {good + ", shares: [20, 5]", "", "canary.shares rise from one to the next; 5 comes after 20"},
		"a share that is none":    {good + ", shares: [105]", "", `canary.shares: "105" is not a share`},
		"no time":                 {"of: Deployment/gate, by: HTTPRoute/gate, within: 1h, " + shares, "", "how long does 5 % last? Write each: for all of them"},
		"a deadline too soon":     {"of: Deployment/gate, by: HTTPRoute/gate, within: 1m, each: 1m, " + shares, "", "the shares alone last 2m0s; it would always go back"},
		"too much by replicas":    {"of: Deployment/gate, by: replicas, within: 1h, each: 1m, shares: [80]", "", "by replicas the new version gets at most 50 %"},
		"nothing by replicas":     {"of: Deployment/gate, by: replicas, within: 1h, each: 1m, shares: [0, 50]", "", "0 needs a route"},
		"a daemon":                {"of: DaemonSet/gate, by: replicas, within: 1h, each: 1m, " + shares, "", "there is no place for a second one beside it"},
		"what owns its volumes":   {"of: StatefulSet/gate, by: HTTPRoute/gate, within: 1h, each: 1m, " + shares, "", "own their volumes, so that none can stand beside it; write by: replicas"},
		"all of its Pods":         {"of: StatefulSet/gate, by: replicas, within: 1h, each: 1m, shares: [50, 100]", "", "100 is none or all"},
		"traffic of nobody":       {good + ", traffic: {query: up, from: m}, " + shares, "", "canary.traffic.query does not ask for the Pods of the new version"},
		"traffic of nothing":      {good + ", traffic: {from: m}, " + shares, "", "canary.traffic.query is missing"},
		"a way out of a service":  {good + ", " + shares, "{e: {request: {service: gate, path: /../secrets}, good: 'true'}}", "write it plainly, without .."},
		"a header for another":    {good + ", " + shares, "{e: {request: {service: gate, headers: {Impersonate-User: admin}}, good: 'true'}}", "which would be meant for the API server"},
		"two ways":                {good + ", " + shares, "{e: {request: {service: gate, url: 'http://a.example'}, good: 'true'}}", "has a url and a service"},
		"a path of nothing":       {good + ", " + shares, "{e: {request: {url: 'http://a.example', path: /x}, good: 'true'}}", "path belongs to a service"},
		"what runs nothing":       {"of: ConfigMap/gate, by: replicas, within: 1h, each: 1m, " + shares, "", "a canary is of a Deployment or a StatefulSet"},
		"many":                    {"of: Deployment/gate-*, by: replicas, within: 1h, each: 1m, " + shares, "", "write one workload as Kind/name"},
		"another way":             {"of: Deployment/gate, by: Ingress/gate, within: 1h, each: 1m, " + shares, "", `canary.by is "Ingress/gate"; write HTTPRoute/name`},
		"who sends it on":         {good + ", shares: [{at: 5, until: operator}]", "", `canary.shares.until is "operator"; write person`},
		"a query that is none":    {good + ", " + shares, "{e: {query: 'rate(x[1m]', from: m, good: value < 1}}", "checks.e.query:"},
		"a query of nobody":       {good + ", " + shares, "{e: {query: x, good: value < 1}}", "checks.e.from is missing: name a known metrics source"},
		"a rule that is none":     {good + ", " + shares, "{e: {query: x, from: m, good: 'value + 1.0'}}", "checks.e.good: it is a double; write something that is true or false"},
		"no rule":                 {good + ", " + shares, "{e: {query: x, from: m}}", "checks.e.good is missing: what of the answer is good, such as value < 0.05"},
		"two kinds":               {good + ", " + shares, "{e: {query: x, from: m, request: {url: 'http://a.example'}, good: 'true'}}", "checks.e needs one of query, request and load"},
		"old of a request":        {good + ", " + shares, "{e: {request: {url: 'http://a.example'}, good: seconds < old.seconds}}", "checks.e.good compares with old, which only a query and the request of a service can"},
		"too much load":           {good + ", " + shares, "{e: {load: {url: 'http://a.example', rate: 5000/s}, good: 'true'}}", "at most 100/s"},
		"a load without a rate":   {good + ", " + shares, "{e: {load: {url: 'http://a.example'}, good: 'true'}}", "checks.e.load.rate is missing"},
		"a secret in a file":      {good + ", " + shares, "{e: {request: {url: 'http://a.example', headers: {authorization: x}}, good: 'true'}}", "what is secret does not belong into a file of a repository"},
		"an address that is none": {good + ", " + shares, "{e: {request: {url: 'file:///etc/passwd'}, good: 'true'}}", "checks.e.request.url:"},
		"too often":               {good + ", " + shares, "{e: {query: x, from: m, good: 'true', every: 10ms}}", "checks.e.every"},
		"misses of none":          {good + ", " + shares, "{e: {query: x, from: m, good: 'true', misses: {in_a_row: 0}}}", "checks.e.misses.in_a_row"},
	} {
		t.Run(name, func(t *testing.T) {
			text := head + "canary: [{" + c.canary + "}]\n"
			if c.checks != "" {
				text += "checks: " + c.checks + "\n"
			}
			_, err := Parse("w.yaml", []byte(text))
			require.ErrorContains(t, err, c.want)
		})
	}
}

func TestChecksThatWardsShare(t *testing.T) {
	const file = "vigila: checks/v1\nabout: for all that serves\nchecks:\n  errors: {query: 'up{pod=~\"${{ new.pods }}\"}', from: m, good: value < 0.05}\n"
	shared, err := ParseChecks("checks.yaml", []byte(file))
	require.NoError(t, err)
	require.Len(t, shared, 1)
	assert.Equal(t, []any{"errors", "m", "checks.yaml", 4}, []any{shared[0].Name, shared[0].From, shared[0].File, shared[0].Line})
	assert.True(t, IsChecks([]byte(file)))
	assert.False(t, IsRoster([]byte(file)))
	assert.True(t, json.Valid(ChecksSchema))
	assert.Contains(t, string(ChecksSchema), `"misses"`)

	all, err := Parse("w.yaml", []byte(head+"canary: [{of: Deployment/gate, by: replicas, within: 1h, each: 1m, shares: [50], checks: [errors, load], traffic: {query: 'x{pod=~\"${{ new.pods }}\"}', from: t}}]\nchecks:\n  load: {load: {url: 'http://a.example', rate: 5/s}, good: 'true'}\n"))
	require.NoError(t, err)
	w := all[0]
	assert.Contains(t, w.NoCheck(w.Canary[0], nil), `canary.checks names "errors", which is none of this ward's checks, nor of those that it shares; there is load`)
	assert.Empty(t, w.NoCheck(w.Canary[0], shared))
	assert.Equal(t, []string{"m", "t"}, w.Metrics(shared))
	own := shared[0]
	own.Good, own.Line = "value < 0.5", 40
	assert.NotEqual(t, w.CanaryText(shared), w.CanaryText([]Check{own}), "what is asked counts")
	own.Good = shared[0].Good
	assert.Equal(t, w.CanaryText(shared), w.CanaryText([]Check{own}), "where it is written does not")
	w.Checks = append(w.Checks, Check{Name: "errors", Good: "mine"})
	mine, _ := w.Find("errors", shared)
	assert.Equal(t, "mine", mine.Good, "the ward's own goes first")

	for name, c := range map[string]struct{ text, want string }{
		"none":           {"vigila: checks/v1\n", "c.yaml:1: there are no checks"},
		"another format": {"vigila: checks/v2\nchecks: {}\n", `the first key must be vigila: checks/v1, not "checks/v2"`},
		"no YAML":        {"vigila: checks/v1\nchecks: [\n", "c.yaml:"},
		"a list":         {"- vigila: checks/v1\n", "must be a mapping of keys"},
		"a slip":         {"vigila: checks/v1\nchecks:\n  e: {query: x, form: m, good: value < 1}\n", "c.yaml:3: unknown key checks.e.form"},
	} {
		_, err := ParseChecks("c.yaml", []byte(c.text))
		assert.ErrorContains(t, err, c.want, name)
	}
	assert.ErrorContains(t, Twice(append(shared, shared...)), "there is a check errors already, at checks.yaml:4")
}
