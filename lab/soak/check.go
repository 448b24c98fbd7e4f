package soak

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
)

// claim is what the API says of a ward.
type claim struct {
	Name     string
	Standing string
	Health   string
	Says     string
	Rejected string
	Pending  int
	Drifted  int
	Run      struct{ Number int }
	Hold     struct{ By string }
}

var resources = []schema.GroupVersionResource{{Version: "v1", Resource: "configmaps"}, {Group: "apps", Version: "v1", Resource: "deployments"}, {Group: "rbac.authorization.k8s.io", Version: "v1", Resource: "roles"},
	{Version: "v1", Resource: "persistentvolumeclaims"}, {Version: "v1", Resource: "secrets"}, {Group: "autoscaling", Version: "v2", Resource: "horizontalpodautoscalers"}}

// sample asks the API for its claims first and then the cluster itself, past the proxy. truth lists what is not as
// declared, for each ward.
func (s *soak) sample() (claims map[string]claim, truth map[string][]difference, err error) {
	var list struct {
		Items []claim
		Total int
	}
	if err := s.call(http.MethodGet, "wards?limit=1000", nil, &list); err != nil {
		return nil, nil, err
	}
	claims = map[string]claim{}
	for _, c := range list.Items {
		claims[c.Name] = c
	}
	live := map[string]map[string]unstructured.Unstructured{}
	for _, r := range resources {
		all, err := s.dyn.Resource(r).List(s.ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward"})
		if err != nil {
			return nil, nil, err
		}
		for _, o := range all.Items {
			w := o.GetLabels()["vigila.dev/ward"]
			if live[w] == nil {
				live[w] = map[string]unstructured.Unstructured{}
			}
			live[w][o.GetKind()+"/"+o.GetName()] = o
			if o.GetNamespace() == shared {
				s.seen(o.GetName(), string(o.GetUID()))
			}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	truth = map[string][]difference{}
	for _, w := range s.wards {
		truth[w.name] = w.differs(live[w.name])
	}
	return claims, truth, nil
}

// difference is something of a ward that is not as it was pushed. want is what was, where that is an object: what one commit has
// differently is another thing than what the next has, and has its own time to be seen.
type difference struct{ text, want string }

func texts(all []difference) string {
	out := make([]string, len(all))
	for i, d := range all {
		out[i] = d.text
	}
	return strings.Join(out, "; ")
}

// differs lists what of a ward is not as it was pushed.
func (w *ward) differs(live map[string]unstructured.Unstructured) []difference {
	var out []difference
	if w.gone {
		for key, o := range live {
			if o.GetNamespace() != shared {
				out = append(out, difference{text: key + " is still there"})
			}
		}
		return out
	}
	if w.broken {
		out = append(out, difference{text: "its last commit can't be parsed"})
	}
	declared := w.declared()
	for key, want := range declared {
		got, there := live[key]
		if got.GetKind() == "HorizontalPodAutoscaler" { // read in one version, declared in either
			got.SetAPIVersion(want["apiVersion"].(string))
		}
		text := ""
		switch {
		case !there:
			text = key + " is missing"
		case !holds(got.Object, plain(want)):
			text = key + " is not as declared"
		case w.adopted[got.GetName()] && holds(got.Object, map[string]any{"data": map[string]any{"stray": "yes"}}):
			text = key + " was adopted with what is not declared"
		}
		if text != "" {
			out = append(out, difference{text, fmt.Sprint(want)})
		}
	}
	for key, o := range live {
		if declared[key] == nil && o.GetNamespace() != shared { // there it is the other ward's to take over
			out = append(out, difference{text: key + " was left behind"})
		}
	}
	slices.SortFunc(out, func(a, b difference) int { return strings.Compare(a.text, b.text) })
	return out
}

// plain is a value as JSON has it.
func plain(v any) any {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	var out any
	if err := json.Unmarshal(text, &out); err != nil {
		panic(err)
	}
	return out
}

// holds tells whether everything in want is in got.
func holds(got, want any) bool {
	switch want := want.(type) {
	case map[string]any:
		m, ok := got.(map[string]any)
		if !ok {
			return false
		}
		for k, v := range want {
			if x, ok := m[k]; !ok || !holds(x, v) {
				return false
			}
		}
		return true
	case []any:
		l, ok := got.([]any)
		if !ok || len(l) != len(want) {
			return false
		}
		for i := range want {
			if !holds(l[i], want[i]) {
				return false
			}
		}
		return true
	}
	return reflect.DeepEqual(plain(got), want)
}

// follow looks again and again for a claim that has been false for longer than it takes to notice.
func (s *soak) follow(ctx context.Context) error {
	since := map[string]time.Time{}  // what is not as declared, ward, words and what is wanted, to when that was first seen
	drifts := map[string]time.Time{} // wards that are called drifted and are not
	epoch := 0
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(400 * time.Millisecond):
		}
		asked, up, grace := time.Now(), s.upSince(), s.grace()
		if up.IsZero() {
			continue
		}
		gone := s.gone()
		claims, truth, err := s.sample()
		if err != nil {
			continue // it is being killed; whether it comes back is seen at rest
		}
		s.mu.Lock()
		fault, faulted, storeWell := s.fault, s.faulted, s.storeAway.Add(storeSilent)
		if epoch != s.restored { // what is wrong now is so since then
			epoch = s.restored
			clear(since)
			clear(drifts)
		}
		s.mu.Unlock()
		maps.Copy(gone, s.gone())
		if lost := s.lost(); lost != "" {
			return errors.New(lost)
		}
		now := time.Now()
		still := map[string]bool{}
		for _, w := range s.wards {
			c, known := claims[w.name]
			if gone[w] {
				continue
			}
			if !known {
				return fmt.Errorf("seed %d: ward %s is not listed any more", s.Seed, w.name)
			}
			s.checks++
			settled := c.Standing == "in step" && c.Run.Number == 0
			for _, d := range truth[w.name] {
				key := w.name + ": " + d.text + " " + d.want
				still[key] = true
				if since[key].IsZero() {
					since[key] = now
				}
				patience, from := grace, since[key]
				if strings.HasPrefix(d.text, "Secret/") { // a store is looked at now and then, and may be away
					patience = 3 * grace
					if storeWell.After(from) {
						from = storeWell
					}
				}
				if settled && asked.Sub(from) > patience {
					return fmt.Errorf("seed %d: a false claim: %s is called in step (%q), but for %.0f s this has been so: %s", s.Seed, w.name, c.Says, now.Sub(since[key]).Seconds(), d.text)
				}
			}
			if settled && (fault.Kind == "down" || fault.Kind == "silent") && asked.Sub(faulted) > grace && asked.Sub(up) > grace {
				return fmt.Errorf("seed %d: a false claim: %s is called in step, but the cluster has not answered for %.0f s", s.Seed, w.name, now.Sub(faulted).Seconds())
			}
			if c.Standing == "drifted" && c.Pending == 0 && len(truth[w.name]) == 0 {
				if drifts[w.name].IsZero() {
					drifts[w.name] = now
				}
				if quiet := fault.Kind == "none" || fault.Kind == ""; quiet && asked.Sub(drifts[w.name]) > grace && asked.Sub(faulted) > grace && asked.Sub(up) > grace {
					return fmt.Errorf("seed %d: a false claim: %s is called drifted (%q), but is as declared", s.Seed, w.name, c.Says)
				}
			} else {
				delete(drifts, w.name)
			}
		}
		for key := range since {
			if !still[key] {
				delete(since, key)
			}
		}
	}
}

// gone lists the wards that are removed, or being removed.
func (s *soak) gone() map[*ward]bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[*ward]bool{}
	for _, w := range s.wards {
		if w.gone {
			out[w] = true
		}
	}
	return out
}

// seen notes which object carries a name that is handed to and fro between wards: it must never be made anew.
func (s *soak) seen(name, uid string) {
	s.jobsMu.Lock()
	defer s.jobsMu.Unlock()
	if s.excused {
		return
	}
	if before := s.uids[name]; before != "" && before != uid && s.remade == "" {
		s.remade = fmt.Sprintf("seed %d: %s/%s was made anew when it was handed over", s.Seed, shared, name)
	}
	s.uids[name] = uid
}

func (s *soak) lost() string {
	s.jobsMu.Lock()
	defer s.jobsMu.Unlock()
	return s.remade
}

// excuse lets the objects that are handed to and fro be made anew until all is at rest: what was done has to.
func (s *soak) excuse(yes bool) {
	s.jobsMu.Lock()
	defer s.jobsMu.Unlock()
	clear(s.uids)
	s.excused = yes
}

// watchTasks notes every Job that is ever made.
func (s *soak) watchTasks(ctx context.Context) {
	note := func(o *unstructured.Unstructured) {
		s.jobsMu.Lock()
		defer s.jobsMu.Unlock()
		if s.jobs[o.GetNamespace()] == nil {
			s.jobs[o.GetNamespace()] = map[string]bool{}
		}
		s.jobs[o.GetNamespace()][string(o.GetUID())] = true
	}
	r := s.dyn.Resource(schema.GroupVersionResource{Group: "batch", Version: "v1", Resource: "jobs"})
	for ctx.Err() == nil {
		list, err := r.List(ctx, metav1.ListOptions{})
		if err != nil {
			continue
		}
		for i := range list.Items {
			note(&list.Items[i])
		}
		w, err := r.Watch(ctx, metav1.ListOptions{ResourceVersion: list.GetResourceVersion()})
		if err != nil {
			continue
		}
		for ev := range w.ResultChan() {
			if o, ok := ev.Object.(*unstructured.Unstructured); ok && o.GetKind() == "Job" {
				note(o)
			}
		}
	}
}

// tasksOnce tells whether no task was made more often than there were runs to make it.
func (s *soak) tasksOnce() error {
	s.jobsMu.Lock()
	defer s.jobsMu.Unlock()
	for _, w := range s.wards {
		if !w.tasks() {
			continue
		}
		var entries struct {
			Items []struct{ Kind string }
			Total int
		}
		if err := s.call(http.MethodGet, "wards/"+w.name+"@quay/entries?limit=1000", nil, &entries); err != nil {
			return err
		}
		runs := 0
		for _, e := range entries.Items {
			if e.Kind == "sync" {
				runs++
			}
		}
		if runs == 0 || entries.Total != len(entries.Items) {
			return errors.New("the logbook of " + w.name + " can't be read whole")
		}
		if made := len(s.jobs[w.name]) - s.before[w.name]; made > runs || made == 0 {
			return fmt.Errorf("seed %d: %s has run its task %d times in %d syncs", s.Seed, w.name, made, runs)
		}
	}
	return nil
}
