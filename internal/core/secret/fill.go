package secret

import (
	"encoding/base64"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/object"
)

// Values are what stores have, by place and key.
type Values map[Place]map[string]string

// Has tells whether there is a value, or of a whole place any.
func (v Values) Has(r Ref) bool {
	if r.Key == "" {
		return len(v[r.Place()]) > 0
	}
	_, ok := v[r.Place()][r.Key]
	return ok
}

// MissingError tells that references have no value.
type MissingError struct{ Refs []Ref }

func (e *MissingError) Error() string {
	texts := make([]string, len(e.Refs))
	for i, r := range e.Refs {
		texts[i] = r.Short()
	}
	return strings.Join(texts, ", ") + " has no value; set it: " + e.Command()
}

// Command is what sets the first of them.
func (e *MissingError) Command() string {
	r := e.Refs[0]
	if r.Key == "" {
		r.Key = "KEY"
	}
	return "vigila secret set " + r.Short()
}

// Fill puts values in the place of what an object refers to; digest is that of all of them, which stands for them where they may not be. The
// object that was given stays as it is. A *MissingError lists what has no value; an error else is about a key that a Secret can't have.
func Fill(o object.Object, values Values, digest string) (object.Object, error) {
	refs := Of(o)
	if len(refs) == 0 {
		return o, nil
	}
	var missing []Ref
	for _, r := range refs {
		if !values.Has(r) {
			missing = append(missing, r)
		}
	}
	if len(missing) > 0 {
		return o, &MissingError{missing}
	}
	if !o.Ref.Secret() {
		return Noted(o, digest), nil
	}
	o.Body = object.Clone(o.Body)
	data, _ := o.Body["data"].(map[string]any)
	if data == nil {
		data = map[string]any{}
	}
	if from, ok := o.Annotation(object.SecretFromAnnotation); ok {
		p, err := ParsePlace(from)
		if err != nil {
			return o, err
		}
		for _, key := range slices.Sorted(maps.Keys(values[p])) {
			if !segment.MatchString(key) {
				return o, fmt.Errorf("%s has a key that a Secret can't have: at most 253 letters, digits, '-', '_' and '.'", p)
			}
			if _, written := data[key]; !written { // what is written in the object comes before what it takes as a whole
				data[key] = base64.StdEncoding.EncodeToString([]byte(values[p][key]))
			}
		}
	}
	each(o.Body, func(field, key, text string) {
		refs, whole, _ := Text(text)
		switch {
		case len(refs) == 0:
			return
		case whole:
			text = values[refs[0].Place()][refs[0].Key]
		default:
			text = within.ReplaceAllStringFunc(text, func(found string) string {
				m := within.FindStringSubmatch(found)
				r, _ := Parse(m[1] + m[2])
				return values[r.Place()][r.Key]
			})
		}
		data[key] = base64.StdEncoding.EncodeToString([]byte(text))
		if texts, ok := o.Body["stringData"].(map[string]any); ok && field == "stringData" {
			delete(texts, key)
		}
	})
	o.Body["data"] = data
	return o, nil
}

// Noted is a workload whose Pod template bears a digest in place of references.
func Noted(o object.Object, digest string) object.Object {
	if digest == "" {
		digest = "not known yet"
	}
	o.Body = object.Clone(o.Body)
	restarts(o.Body)[RestartAnnotation] = digest
	return o
}

// restarts are the annotations of an object's Pod template, where they hold what its Pods are made anew for; else nil.
func restarts(body map[string]any) map[string]any {
	notes := templateNotes(body, false)
	if _, ok := notes[RestartAnnotation].(string); !ok {
		return nil
	}
	return notes
}

func templateNotes(body map[string]any, make bool) map[string]any {
	spec, _ := body["spec"].(map[string]any)
	template, _ := spec["template"].(map[string]any)
	meta, ok := template["metadata"].(map[string]any)
	if !ok && make && template != nil {
		meta = map[string]any{}
		template["metadata"] = meta
	}
	notes, ok := meta["annotations"].(map[string]any)
	if !ok && make && meta != nil {
		notes = map[string]any{}
		meta["annotations"] = notes
	}
	return notes
}

// read is what a note of restarts refers to.
func read(notes map[string]any) (out []Ref) {
	text, _ := notes[RestartAnnotation].(string)
	for word := range strings.FieldsSeq(text) {
		if r, err := parse(word, "STORE/PATH#KEY"); err == nil && strings.HasPrefix(word, Scheme) {
			out = append(out, r)
		}
	}
	return sorted(out)
}

// Restarts has each workload among some objects made anew when a value is another that its containers read by environment: its Pod template is
// marked with the references of those Secrets. Only kinds that make Pods anew by themselves are (Deployment, StatefulSet, DaemonSet).
func Restarts(objects []object.Object) {
	type name struct{ namespace, name string }
	of := map[name][]Ref{}
	for _, o := range objects {
		if o.Ref.Secret() {
			if refs := Of(o); len(refs) > 0 {
				of[name{o.Ref.Namespace, o.Ref.Name}] = refs
			}
		}
	}
	if len(of) == 0 {
		return
	}
	for _, o := range objects {
		if o.Ref.Group != "apps" || !slices.Contains([]string{"Deployment", "StatefulSet", "DaemonSet"}, o.Ref.Kind) {
			continue
		}
		var refs []Ref
		for _, secret := range byEnvironment(o.Body) {
			refs = append(refs, of[name{o.Ref.Namespace, secret}]...)
		}
		if len(refs) == 0 {
			continue
		}
		if notes := templateNotes(o.Body, true); notes != nil {
			var words []string
			for _, r := range sorted(refs) {
				words = append(words, r.String())
			}
			notes[RestartAnnotation] = strings.Join(words, " ")
		}
	}
}

// byEnvironment names the Secrets that the containers of a workload read by environment.
func byEnvironment(body map[string]any) (out []string) {
	spec, _ := body["spec"].(map[string]any)
	template, _ := spec["template"].(map[string]any)
	pod, _ := template["spec"].(map[string]any)
	take := func(of any) {
		if m, _ := of.(map[string]any); m != nil {
			if name, _ := m["name"].(string); name != "" {
				out = append(out, name)
			}
		}
	}
	for _, list := range []string{"containers", "initContainers"} {
		all, _ := pod[list].([]any)
		for _, c := range all {
			c, _ := c.(map[string]any)
			from, _ := c["envFrom"].([]any)
			for _, e := range from {
				e, _ := e.(map[string]any)
				take(e["secretRef"])
			}
			env, _ := c["env"].([]any)
			for _, e := range env {
				e, _ := e.(map[string]any)
				value, _ := e["valueFrom"].(map[string]any)
				take(value["secretKeyRef"])
			}
		}
	}
	return out
}
