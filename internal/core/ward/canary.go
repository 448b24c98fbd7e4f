package ward

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/nearest"
)

// Canary says how a change of a workload's Pod template is brought in: a new version beside the old one, with a growing share of the
// traffic.
type Canary struct {
	Of     string   // the workload, as Kind/name
	Routes []string // the HTTPRoutes that lead to it, as Kind/name; none when the share follows from the sizes
	Shares []Share
	Within time.Duration // the whole; then it goes back
	Checks []string      // names among the ward's checks
	// Traffic tells how much traffic each version gets, to show the share that is seen: Query, From and Every of it; nil when it is not
	// asked.
	Traffic *Check
	Line    int
}

// InPlace tells whether the new version takes the place of some of the workload's own Pods, instead of standing beside it: a
// StatefulSet's, whose Pods own their volumes.
func (c Canary) InPlace() bool { return strings.HasPrefix(c.Of, "StatefulSet/") }

// ByReplicas tells whether the share follows from the sizes of the two.
func (c Canary) ByReplicas() bool { return len(c.Routes) == 0 }

// Share is one share of the traffic, and what ends it.
type Share struct {
	At     int           // percent
	For    time.Duration // how long it lasts
	Person bool          // a person says when it goes on
}

// Check is what is asked between the shares.
type Check struct {
	Name   string
	Query  string // PromQL, of the metrics source From
	From   string
	Ask    *Request
	Load   *Request // Rate of them a second
	Good   string   // CEL, over the answer
	Every  time.Duration
	Misses int // so many are borne in all, the next goes back;
	InARow int // or: so many in a row go back; 0 when Misses counts
	NoData NoData
	File   string // that it is written in, and
	Line   int    // where
}

// Bears says how many misses are borne.
func (c Check) Bears() string {
	switch {
	case c.InARow > 1:
		return fmt.Sprintf("%d in a row", c.InARow-1)
	case c.InARow == 1 || c.Misses == 0:
		return "none"
	}
	return fmt.Sprintf("%d in all", c.Misses)
}

// Request is a request of a check: to a URL, or to a Service of the ward's namespace through the cluster's API server.
type Request struct {
	URL     string
	Service string // its name,
	Port    string // the name of one of its ports, "" for the only one,
	Path    string // and what is asked there
	Headers map[string]string
	Rate    int // of a load: requests a second
}

// Where is where it goes, in a few words.
func (r Request) Where() string {
	if r.Service == "" {
		return r.URL
	}
	at := "Service/" + r.Service
	if r.Port != "" {
		at += ":" + r.Port
	}
	return at + " " + cmp.Or(r.Path, "/")
}

// NoData says what an answer that tells nothing counts as.
type NoData string

// What it may be.
const (
	WaitForData NoData = "wait"
	Miss        NoData = "miss"
)

// The bounds of a load.
const (
	maxRate    = 100
	leastEvery = time.Second
)

// TrackHeader with TrackNew as its value leads a request to the new version while a canary goes on; whoever sends it gets there.
const (
	TrackHeader = "X-Track"
	TrackNew    = "new"
)

// maxByReplicas is the largest share that follows from sizes: beside the old version stand at most as many.
const maxByReplicas = 50

func (d *decoder) canaries(n *yaml.Node, w *Ward) {
	d.list(n, "canary", func(n *yaml.Node) { w.Canary = append(w.Canary, d.canary(n)) })
	seen := map[string]bool{}
	for i, c := range w.Canary {
		if seen[c.Of] && i < len(n.Content) {
			d.fail(n.Content[i], "canary.of names %s twice", c.Of)
		}
		seen[c.Of] = true
	}
}

func (d *decoder) canary(n *yaml.Node) Canary {
	c := Canary{Line: n.Line + d.offset}
	each, by := time.Duration(0), false
	d.mapping(n, "canary", keys{
		"of": func(n *yaml.Node) {
			d.text(&c.Of, "canary.of")(n)
			d.canaryOf(n, c.Of)
		},
		"by": func(n *yaml.Node) { by = true; c.Routes = d.by(n) },
		"shares": func(n *yaml.Node) {
			d.list(n, "canary.shares", func(n *yaml.Node) { c.Shares = append(c.Shares, d.share(n)) })
		},
		"each":   d.duration(&each, "canary.each", time.Second),
		"within": d.duration(&c.Within, "canary.within", time.Second),
		"checks": func(n *yaml.Node) {
			d.list(n, "canary.checks", func(n *yaml.Node) {
				var s string
				d.name(&s, "canary.checks")(n)
				c.Checks = append(c.Checks, s)
			})
		},
		"traffic": func(n *yaml.Node) { c.Traffic = d.traffic(n) },
	})
	for _, missing := range []struct {
		is   bool
		text string
	}{
		{c.Of == "", "of: a workload, such as Deployment/fare-gate"},
		{!by, "by: the route that leads to it, such as HTTPRoute/fare-gate, or replicas"},
		{len(c.Shares) == 0, "shares: percents of the traffic, such as [5, 20, 50]"},
		{c.Within == 0, "within: how long the whole may take, such as 3h; then it goes back"},
	} {
		if missing.is {
			d.fail(n, "each entry of canary needs %s", missing.text)
		}
	}
	if c.InPlace() && len(c.Routes) > 0 {
		d.fail(n, "canary.by: the Pods of a StatefulSet own their volumes, so that none can stand beside it; write by: replicas, and the share is how many of its Pods are new")
	}
	d.shares(n, &c, each)
	return c
}

// traffic reads what tells how much traffic a version gets.
func (d *decoder) traffic(n *yaml.Node) *Check {
	c := Check{Every: 10 * time.Second, NoData: WaitForData, File: d.file, Line: n.Line + d.offset}
	const where = "canary.traffic"
	d.mapping(n, where, keys{
		"query": func(n *yaml.Node) { d.query(n, where+".query", &c.Query) },
		"from":  d.name(&c.From, where+".from"),
		"every": d.duration(&c.Every, where+".every", leastEvery),
	})
	switch {
	case n.Kind != yaml.MappingNode:
	case c.Query == "":
		d.fail(n, "%s.query is missing: how much traffic the new Pods get, such as sum(rate(http_requests_total{pod=~\"${{ new.pods }}\"}[1m]))", where)
	case !judge.AsksNew(c.Query):
		d.fail(n, "%s.query does not ask for the Pods of the new version, so it tells nothing of the two; name them: {pod=~\"${{ new.pods }}\"}", where)
	case c.From == "":
		d.fail(n, "%s.from is missing: name a known metrics source (vigila metrics list)", where)
	}
	return &c
}

func (d *decoder) query(n *yaml.Node, where string, into *string) {
	d.text(into, where)(n)
	if err := judge.CheckQuery(*into); err != nil {
		d.fail(n, "%s: %v", where, err)
	}
}

func (d *decoder) canaryOf(n *yaml.Node, of string) {
	kind, name, ok := strings.Cut(of, "/")
	switch {
	case !ok || kind == "" || name == "" || strings.ContainsAny(of, "*?["):
		d.fail(n, "canary.of is %q; write one workload as Kind/name, such as Deployment/fare-gate", of)
	case kind == "DaemonSet":
		d.fail(n, "canary.of names a DaemonSet: it runs one Pod on each node, so there is no place for a second one beside it; spread the change over clusters instead (spread.one_at_a_time)")
	case kind != "Deployment" && kind != "StatefulSet":
		d.fail(n, "canary.of names a %s; a canary is of a Deployment or a StatefulSet", kind)
	case kind == "Deployment" && len(name)+len("-new") > 63:
		d.fail(n, "canary.of: the name of %s leaves no room for the -new of the one beside it; the longest has 59 characters", of)
	}
}

// by reads replicas, one route, or several.
func (d *decoder) by(n *yaml.Node) (routes []string) {
	if n.Kind == yaml.ScalarNode && n.Value == "replicas" {
		return nil
	}
	one := func(n *yaml.Node) {
		kind, name, ok := strings.Cut(n.Value, "/")
		if n.Kind != yaml.ScalarNode || !ok || kind != "HTTPRoute" || name == "" {
			d.fail(n, "canary.by is %q; write HTTPRoute/name, a list of them, or replicas", n.Value)
			return
		}
		routes = append(routes, n.Value)
	}
	if n.Kind == yaml.SequenceNode {
		d.list(n, "canary.by", one)
	} else {
		one(n)
	}
	return routes
}

func (d *decoder) share(n *yaml.Node) (s Share) {
	percent := func(n *yaml.Node) {
		at, err := strconv.Atoi(strings.TrimSuffix(n.Value, "%"))
		if err != nil || at < 0 || at > 100 {
			d.fail(n, "canary.shares: %q is not a share; write a whole number from 0 to 100", n.Value)
			return
		}
		s.At = at
	}
	if n.Kind == yaml.ScalarNode {
		percent(n)
		return s
	}
	until, has := "", false
	d.mapping(n, "canary.shares", keys{
		"at":  func(n *yaml.Node) { has = true; percent(n) },
		"for": d.duration(&s.For, "canary.shares.for", time.Second),
		"until": func(n *yaml.Node) {
			choice(d, &until, "canary.shares.until", "person", "person")(n)
			s.Person = until == "person"
		},
	})
	if !has {
		d.fail(n, "each of canary.shares needs at: a percent, such as {at: 50, for: 30m}")
	}
	return s
}

// shares fills in how long each lasts, and checks that they rise.
func (d *decoder) shares(n *yaml.Node, c *Canary, each time.Duration) {
	total, last := time.Duration(0), -1
	for i := range c.Shares {
		s := &c.Shares[i]
		if s.For == 0 && !s.Person {
			if s.For = each; each == 0 {
				d.fail(n, "canary.shares: how long does %d %% last? Write each: for all of them, or {at: %d, for: 10m}", s.At, s.At)
			}
		}
		switch {
		case s.At <= last:
			d.fail(n, "canary.shares rise from one to the next; %d comes after %d", s.At, last)
		case c.InPlace() && (s.At == 0 || s.At == 100):
			d.fail(n, "canary.shares: of a StatefulSet some Pods are of the new version, and some of the old one; %d is none or all", s.At)
		case c.InPlace():
		case c.ByReplicas() && s.At > maxByReplicas && len(c.Of) > 0:
			d.fail(n, "canary.shares: by replicas the new version gets at most %d %%, as many beside as there are; %d needs a route: by: HTTPRoute/name", maxByReplicas, s.At)
		case c.ByReplicas() && s.At == 0:
			d.fail(n, "canary.shares: by replicas the new version gets traffic as soon as it is there; 0 needs a route: by: HTTPRoute/name")
		}
		last, total = s.At, total+s.For
	}
	if c.Within > 0 && total >= c.Within {
		d.fail(n, "canary.within is %s, and the shares alone last %s; it would always go back", c.Within, total)
	}
}

func (d *decoder) checks(n *yaml.Node, into *[]Check) {
	if n.Kind != yaml.MappingNode {
		d.fail(n, "checks must be a mapping of names to checks")
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		var name string
		d.name(&name, "checks")(n.Content[i])
		if seen[name] {
			d.fail(n.Content[i], "checks.%s is given twice", name)
			continue
		}
		seen[name] = true
		*into = append(*into, d.check(name, n.Content[i], n.Content[i+1]))
	}
}

func (d *decoder) check(name string, at, n *yaml.Node) Check {
	c := Check{Name: name, Every: 10 * time.Second, NoData: WaitForData, File: d.file, Line: at.Line + d.offset}
	where, old := "checks."+name, false
	d.mapping(n, where, keys{
		"query":   func(n *yaml.Node) { d.query(n, where+".query", &c.Query) },
		"from":    d.name(&c.From, where+".from"),
		"request": func(n *yaml.Node) { c.Ask = d.request(n, where+".request", false) },
		"load":    func(n *yaml.Node) { c.Load = d.request(n, where+".load", true) },
		"good": func(n *yaml.Node) {
			d.text(&c.Good, where+".good")(n)
			rule, err := judge.Compile(c.Good)
			if err != nil {
				d.fail(n, "%s.good: %v", where, err)
			}
			old = err == nil && rule.ComparesOld()
		},
		"every":   d.duration(&c.Every, where+".every", leastEvery),
		"misses":  func(n *yaml.Node) { d.misses(n, where+".misses", &c) },
		"no_data": choice(d, &c.NoData, where+".no_data", WaitForData, Miss),
	})
	kinds := 0
	for _, is := range []bool{c.Query != "", c.Ask != nil, c.Load != nil} {
		if is {
			kinds++
		}
	}
	switch {
	case kinds != 1:
		d.fail(at, "%s needs one of query, request and load", where)
	case c.Query != "" && c.From == "":
		d.fail(at, "%s.from is missing: name a known metrics source (vigila metrics list)", where)
	case old && c.Query == "" && (c.Ask == nil || c.Ask.Service == ""):
		d.fail(at, "%s.good compares with old, which only a query and the request of a service can: a request to a URL reaches the old version by its share alone", where)
	case c.Query == "" && c.From != "":
		d.fail(at, "%s.from belongs to a query", where)
	}
	if c.Good == "" {
		d.fail(at, "%s.good is missing: what of the answer is good, such as %s", where, map[bool]string{true: "value < 0.05", false: "status == 200"}[c.Query != ""])
	}
	return c
}

func (d *decoder) misses(n *yaml.Node, where string, c *Check) {
	number := func(into *int, least int, where string) func(*yaml.Node) {
		return func(n *yaml.Node) {
			v, err := strconv.Atoi(n.Value)
			if err != nil || v < least || v > 1000 {
				d.fail(n, "%s is %q; write a whole number from %d to 1000", where, n.Value, least)
				return
			}
			*into = v
		}
	}
	if n.Kind == yaml.ScalarNode {
		number(&c.Misses, 0, where)(n)
		return
	}
	d.mapping(n, where, keys{"in_a_row": number(&c.InARow, 1, where+".in_a_row")})
	if c.InARow == 0 && n.Kind == yaml.MappingNode {
		d.fail(n, "%s needs a number, or in_a_row: a number", where)
	}
}

func (d *decoder) request(n *yaml.Node, where string, load bool) *Request {
	r := &Request{}
	known := keys{"url": d.text(&r.URL, where+".url"), "headers": d.texts(&r.Headers, where+".headers")}
	if load {
		known["rate"] = func(n *yaml.Node) {
			v, err := strconv.Atoi(strings.TrimSuffix(n.Value, "/s"))
			if err != nil || v < 1 || v > maxRate {
				d.fail(n, "%s.rate is %q; write requests a second, such as 20/s, at most %d/s", where, n.Value, maxRate)
				return
			}
			r.Rate = v
		}
	}
	if !load {
		known["service"] = func(n *yaml.Node) {
			d.text(&r.Service, where+".service")(n)
			r.Service, r.Port, _ = strings.Cut(r.Service, ":")
			if err := Name(r.Service); err != nil {
				d.fail(n, "%s.service: %v", where, err)
			}
		}
		known["path"] = d.text(&r.Path, where+".path")
	}
	d.mapping(n, where, known)
	switch {
	case r.Service == "" && r.Path != "":
		d.fail(n, "%s.path belongs to a service; write it into the url", where)
	case r.Service != "" && r.URL != "":
		d.fail(n, "%s has a url and a service; write one of them", where)
	case r.Service != "" && r.Path != "" && !strings.HasPrefix(r.Path, "/"):
		d.fail(n, "%s.path is %q; it starts with a /", where, r.Path)
	case strings.ContainsAny(r.Path, "%#\\") || slices.ContainsFunc(strings.Split(r.Path, "/"), func(s string) bool { return s == ".." || s == "." }):
		d.fail(n, "%s.path is %q; write it plainly, without .., %%, # and backslashes", where, r.Path)
	case r.Service != "":
	default:
		if err := Link(r.URL); err != nil {
			d.fail(n, "%s.url: %v", where, err)
		}
	}
	for _, h := range slices.Sorted(maps.Keys(r.Headers)) {
		switch name := strings.ToLower(h); {
		case name == "authorization" || name == "cookie":
			d.fail(n, "%s.headers has %s: what is secret does not belong into a file of a repository", where, h)
		case r.Service != "" && (strings.HasPrefix(name, "impersonate-") || slices.Contains([]string{"host", "connection", "upgrade"}, name)):
			d.fail(n, "%s.headers has %s, which would be meant for the API server; leave it out", where, h)
		}
	}
	if load && r.Rate == 0 && n.Kind == yaml.MappingNode {
		d.fail(n, "%s.rate is missing: requests a second, such as 20/s", where)
	}
	return r
}

// Metrics lists the metrics sources that its canaries ask.
func (w Ward) Metrics(shared []Check) (out []string) {
	for _, c := range w.Checks {
		out = append(out, c.From)
	}
	for _, c := range w.Canary {
		if c.Traffic != nil {
			out = append(out, c.Traffic.From)
		}
		for _, name := range c.Checks {
			if x, known := w.Find(name, shared); known {
				out = append(out, x.From)
			}
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(name string) bool { return name == "" })
}

// CanaryText is what the file, and the checks that it shares, say of canaries, for a digest. Where it is written says nothing.
func (w Ward) CanaryText(shared []Check) string {
	canaries, checks := slices.Clone(w.Canary), []Check{}
	for i, c := range canaries {
		canaries[i].Line = 0
		for _, name := range c.Checks {
			if x, known := w.Find(name, shared); known {
				x.File, x.Line = "", 0
				checks = append(checks, x)
			}
		}
	}
	text, err := json.Marshal([]any{canaries, checks})
	if err != nil {
		panic(err) // plain values
	}
	return string(text)
}

// Find is a check of the ward's own file, or of the shared ones, by its name; ok is false when there is none.
func (w Ward) Find(check string, shared []Check) (c Check, ok bool) {
	for _, all := range [][]Check{w.Checks, shared} {
		if i := slices.IndexFunc(all, func(c Check) bool { return c.Name == check }); i >= 0 {
			return all[i], true
		}
	}
	return c, false
}

// NoCheck says what is wrong with a canary that names a check that there is none of; "" when there are all.
func (w Ward) NoCheck(c Canary, shared []Check) string {
	for _, name := range c.Checks {
		if _, known := w.Find(name, shared); known {
			continue
		}
		var names []string
		for _, x := range slices.Concat(w.Checks, shared) {
			names = append(names, x.Name)
		}
		mend := "write it below checks:, or in a checks file (vigila: " + ChecksVersion + ")"
		if len(names) > 0 {
			mend = nearest.Words(name, names)
		}
		return fmt.Sprintf("canary.checks names %q, which is none of this ward's checks, nor of those that it shares; %s", name, mend)
	}
	return ""
}
