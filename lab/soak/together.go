package soak

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
)

// What goes on beside the faults, all at once: new versions by canaries, lots that a lane carries from stop to stop, a rule that is made strict and is
// loosened again, and somebody who may see some of the wards.

// share is how long a canary has half of the Pods before it is through.
const share = 2 * time.Second

// stops are those of the lane, in their order; each has a ward dock-STOP of its own.
var stops = []string{"a", "b", "c"}

const laneFile = `vigila: lane/v1
name: docks
carries: [{files: "docks/{stop}/config/**"}]
stops:
  - {name: a, wards: [dock-a@quay], lets_in: by itself, settled: 1s}
  - {name: b, wards: [dock-b@quay], after: [a], lets_in: by itself, settled: 1s}
  - {name: c, wards: [dock-c@quay], after: [b], lets_in: by itself}
`

// noClaims is a rule that wards break now and then.
const noClaims = `apiVersion: admissionregistration.k8s.io/v1
kind: ValidatingAdmissionPolicy
metadata: {name: no-claims, annotations: {vigila.dev/why: disks are short, vigila.dev/mend: take the claim away}}
spec:
  matchConstraints: {resourceRules: [{apiGroups: [""], apiVersions: [v1], operations: [CREATE, UPDATE], resources: [persistentvolumeclaims]}]}
  validations: [{expression: "false"}]
`

// beside is what is known of all that.
type beside struct {
	lot     int             // the version that was pushed to the first stop last
	most    map[string]int  // the newest version that each stop's cluster ever had
	crew    string          // the token of somebody who sees two wards
	seen    map[string]bool // canaries, by ward and version
	answers int             // that the crew was given
	claims  int             // that were declared while they are refused
	strict  time.Time       // since when a claim is refused; zero while it is not
	refused map[string]time.Time
}

// crewSees are the wards that somebody sees.
var crewSees = []string{"pier-00", "pier-03"}

// releases tells whether the ward's new versions go out by a canary.
func (w *ward) releases() bool { return w.index%6 == 3 }

// furnishDocks writes down the lane and its wards.
func (s *soak) furnishDocks() error {
	s.beside.most, s.beside.refused, s.beside.lot = map[string]int{}, map[string]time.Time{}, 1
	s.beside.seen = map[string]bool{}
	files := map[string]string{"lane/lane.yaml": laneFile}
	for _, stop := range stops {
		files["lane/dock-"+stop+".yaml"] = fmt.Sprintf("vigila: ward/v1\nname: dock-%[1]s\nfrom: {path: docks/%[1]s}\ninto: {cluster: quay, namespace: dock-%[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\n", stop)
		files["docks/"+stop+"/config/light.yaml"] = light(1)
	}
	return s.write(files)
}

func (s *soak) write(files map[string]string) error {
	for name, text := range files {
		at := filepath.Join(s.work, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(at, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func light(version int) string {
	return fmt.Sprintf("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: light}\ndata: {v: %q}\n", fmt.Sprint(version))
}

// setSail lets the service know of the lane, and makes the token of the crew.
func (s *soak) setSail() error {
	if err := s.call(http.MethodPost, "rosters", map[string]any{"name": "docks", "repo": "moorings", "ref": "main", "path": "lane"}, nil); err != nil {
		return err
	}
	var made struct{ Token string }
	err := s.call(http.MethodPost, "tokens", map[string]any{"name": "crew", "for": 86400, "rights": []any{map[string]any{"verbs": []string{"see"}, "of_wards": crewSees}}}, &made)
	s.beside.crew = made.Token
	return err
}

// release pushes another version of a ward that releases by canaries.
func (s *soak) release() (string, error) {
	return s.changeOf(func(w *ward) bool { return w.releases() }, func(w *ward) string {
		w.version++
		return fmt.Sprintf("releases version %d", w.version)
	})
}

// changeOf is change, of one of the wards that a condition holds for.
func (s *soak) changeOf(which func(*ward) bool, how func(*ward) string) (string, error) {
	all := slices.DeleteFunc(slices.Clone(s.wards), func(w *ward) bool { return !which(w) })
	if len(all) == 0 {
		return "nothing is changed", nil
	}
	w := all[s.dice.IntN(len(all))]
	s.mu.Lock()
	w.broken = false
	what := how(w)
	s.mu.Unlock()
	return fmt.Sprintf("commit: %s %s", w.name, what), s.commit(what, w)
}

// sendLot pushes another version to the first stop.
func (s *soak) sendLot() (string, error) {
	s.mu.Lock()
	s.beside.lot++
	n := s.beside.lot
	s.mu.Unlock()
	if err := s.write(map[string]string{"docks/a/config/light.yaml": light(n)}); err != nil {
		return "", err
	}
	return fmt.Sprintf("commit: lot %d begins its way", n), s.commit(fmt.Sprintf("Light %d", n))
}

// tighten makes the rule strict; it is loosened when all is to come to rest.
func (s *soak) tighten() (string, error) {
	if !s.beside.strict.IsZero() {
		return "the rule is strict already", nil
	}
	return "claims are refused from now on", s.rule(true)
}

func (s *soak) rule(strict bool) error {
	text, what := rulebook, "Claims are fine"
	if strict {
		text, what = strings.Replace(rulebook, "no-claims: off", "no-claims: refuse", 1), "No claims"
	}
	if err := s.write(map[string]string{".vigila/rules/rulebook.yaml": text}); err != nil {
		return err
	}
	err := s.commit(what)
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.beside.refused)
	if s.beside.strict = (time.Time{}); strict {
		s.beside.strict = time.Now()
	}
	return err
}

// claimed notes that a ward declares a claim while that is refused.
func (s *soak) claimed(w *ward) {
	if w.claims["charts"] && !s.beside.strict.IsZero() {
		s.beside.refused[w.name] = time.Now()
		s.beside.claims++
	} else {
		delete(s.beside.refused, w.name)
	}
}

// look looks at the cluster itself, again and again, for what must not be.
func (s *soak) lookBeside(ctx context.Context) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(200 * time.Millisecond):
		}
		for _, look := range []func(context.Context) string{s.lookAtDocks, s.lookAtCanaries, s.lookAtClaims} {
			if wrong := look(ctx); wrong != "" && ctx.Err() == nil {
				return fmt.Errorf("seed %d: %s", s.Seed, wrong)
			}
		}
		if wrong := s.peek(ctx); wrong != "" && ctx.Err() == nil {
			return fmt.Errorf("seed %d: %s", s.Seed, wrong)
		}
	}
}

// lookAtDocks: no stop ever has what the one before it never had. The last stop is looked at first, so that nothing overtakes the look.
func (s *soak) lookAtDocks(ctx context.Context) string {
	for _, stop := range slices.Backward(stops) {
		o, err := s.dyn.Resource(resources[0]).Namespace("dock-"+stop).Get(ctx, "light", metav1.GetOptions{})
		if err != nil {
			return "" // it is not there yet, or the cluster is away
		}
		text, _, _ := unstructured.NestedString(o.Object, "data", "v")
		n, err := strconv.Atoi(text)
		if err != nil {
			return fmt.Sprintf("dock-%s has a light %q, which nobody has pushed", stop, text)
		}
		s.mu.Lock()
		s.beside.most[stop] = max(s.beside.most[stop], n)
		s.mu.Unlock()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := 1; i < len(stops); i++ {
		if have, had := s.beside.most[stops[i]], s.beside.most[stops[i-1]]; have > had {
			return fmt.Sprintf("stop %s has light %d, and stop %s before it has never had more than %d", stops[i], have, stops[i-1], had)
		}
	}
	s.checks++
	return ""
}

var deployments = schema.GroupVersionResource{Group: "apps", Version: "v1", Resource: "deployments"}

// lookAtCanaries: while a new version has had its share for less long than it is to, nothing beside it is another.
func (s *soak) lookAtCanaries(ctx context.Context) string {
	for _, w := range s.wards {
		if !w.releases() {
			continue
		}
		terms, err := s.dyn.Resource(resources[0]).Namespace(w.name).Get(ctx, "terms", metav1.GetOptions{})
		if err != nil {
			continue
		}
		beside, err := s.dyn.Resource(deployments).Namespace(w.name).Get(ctx, w.name+"-new", metav1.GetOptions{})
		if err != nil { // there is no canary
			continue
		}
		age := time.Since(beside.GetCreationTimestamp().Time)
		has, _, _ := unstructured.NestedString(terms.Object, "data", "version")
		s.mu.Lock()
		s.checks++
		s.beside.seen[w.name+" "+image(beside)] = true
		s.mu.Unlock()
		if image(beside) == "registry.brindle.example/pier:"+has && age < share {
			return fmt.Sprintf("%s has the terms of version %s already, and its canary has stood for %s", w.name, has, age)
		}
	}
	return ""
}

// image is that of a workload's first container.
func image(o *unstructured.Unstructured) string {
	all, _, _ := unstructured.NestedSlice(o.Object, "spec", "template", "spec", "containers")
	if len(all) == 0 {
		return ""
	}
	first, _ := all[0].(map[string]any)
	text, _ := first["image"].(string)
	return text
}

// lookAtClaims: what a strict rule refuses is not made.
func (s *soak) lookAtClaims(ctx context.Context) string {
	all, err := s.dyn.Resource(resources[3]).List(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward"})
	if err != nil {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range all.Items {
		since, is := s.beside.refused[o.GetNamespace()]
		if made := o.GetCreationTimestamp().Time; is && made.After(since.Add(time.Second)) { // to the second
			return fmt.Sprintf("%s made a claim at %s, and claims are refused since %s", o.GetNamespace(), made, s.beside.strict)
		}
	}
	return ""
}

// named are wards that a text names.
var named = regexp.MustCompile(`\b(?:pier|dock|wreck)-[a-z0-9]+`)

// peek asks as somebody who may see two wards: of the others there is nothing, in no answer.
func (s *soak) peek(ctx context.Context) string {
	if s.beside.crew == "" || s.upSince().IsZero() {
		return ""
	}
	others := s.wards[1+s.dice2.IntN(2)].name
	for path, status := range map[string]int{"wards?limit=1000": 200, "wards/" + others + "@quay": 404, "wards/" + others + "@quay/entries": 404, "wards/" + crewSees[0] + "@quay": 200,
		"wards/" + crewSees[0] + "@quay/entries?limit=20": 200, "lanes": 200, "secrets": 200} {
		code, text, err := s.asCrew(ctx, path)
		if err != nil { // it is being killed
			return ""
		}
		if gone := s.gone(); code == 404 && status == 200 && len(gone) > 0 { // the ward itself may be gone
			continue
		}
		if code >= 500 {
			continue
		}
		if code != status {
			return fmt.Sprintf("the crew asks for %s and is answered %d: %s", path, code, text)
		}
		for _, name := range named.FindAllString(text, -1) {
			if !slices.ContainsFunc(crewSees, func(own string) bool { return strings.HasPrefix(name, own) }) && !(status == 404 && name == others) {
				at := strings.Index(text, name)
				return fmt.Sprintf("the crew may not see %s, and is told of it by %s: …%s…", name, path, text[max(0, at-120):min(len(text), at+120)])
			}
		}
		s.mu.Lock()
		s.checks++
		s.beside.answers++
		s.mu.Unlock()
	}
	return ""
}

// together tells what happened beside the faults; where nothing did, nothing was shown.
func (s *soak) together() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := s.beside
	s.say("%d canaries were seen, %d lots have arrived at the last stop, %d claims were refused, the crew was answered %d times", len(b.seen), b.most[stops[len(stops)-1]], b.claims, b.answers)
	if b.answers == 0 || s.counts["releases"] > 3 && len(b.seen) == 0 || b.most[stops[len(stops)-1]] != b.lot {
		return fmt.Errorf("seed %d: canaries, lots and what the crew sees were not looked at", s.Seed)
	}
	return nil
}

func (s *soak) asCrew(ctx context.Context, path string) (int, string, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.address+"/api/v1/"+path, nil)
	if err != nil {
		return 0, "", err
	}
	q.Header.Set("Authorization", "Bearer "+s.beside.crew)
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		return 0, "", err
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	return r.StatusCode, string(text), err
}

// docked tells what is not yet as it is to be with the lane, once all is at rest; "" when everything is.
func (s *soak) docked(claims map[string]claim) string {
	for _, stop := range stops {
		name := "dock-" + stop
		o, err := s.dyn.Resource(resources[0]).Namespace(name).Get(s.ctx, "light", metav1.GetOptions{})
		if err != nil {
			return fmt.Sprintf("%s has no light: %v", name, err)
		}
		text, _, _ := unstructured.NestedString(o.Object, "data", "v")
		c := claims[name]
		switch {
		case c.Hold.By != "":
			return name + " is held"
		case text != fmt.Sprint(s.beside.lot):
			var l json.RawMessage
			_ = s.call(http.MethodGet, "lanes/docks", nil, &l)
			return fmt.Sprintf("%s has light %s, and the newest is %d; it says %s: %s; the lane: %s", name, text, s.beside.lot, c.Standing, c.Says, l)
		case c.Standing != "in step" || c.Run.Number != 0:
			return fmt.Sprintf("%s says %s: %s", name, c.Standing, c.Says)
		}
	}
	return ""
}
